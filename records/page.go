package records

// Page asks for a part of a list.
type Page struct {
	After string // key of the last item already seen; "" for the first page
	Limit int
}

// All asks for a whole list that is known to be short.
var All = Page{Limit: 1 << 30}
