package fronts

// CheckChanged lets tests look at signposts as it is done after they have changed.
var CheckChanged = (*Service).checkChanged
