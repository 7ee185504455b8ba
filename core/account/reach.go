package account

// Reach says at which of several servers that keep the same permissions an account means somebody.
type Reach string

const (
	Everywhere Reach = "everywhere" // at all of them, the same
	ByMap      Reach = "by-map"     // at all of them, at some through an account map
	Partly     Reach = "partly"     // at some alone; at the others it is a bare number
	Nowhere    Reach = "nowhere"    // at none
)

// Sight is an account as one server sees it.
type Sight struct {
	Known  bool // the server can name it
	Paired bool // it is another account there, through an account map
}

// ReachOf is the reach of an account that servers see so.
func ReachOf(seen []Sight) Reach {
	known, paired := 0, false
	for _, s := range seen {
		if s.Known {
			known++
		}
		paired = paired || s.Paired
	}
	switch {
	case known == 0:
		return Nowhere
	case known < len(seen):
		return Partly
	case paired:
		return ByMap
	}
	return Everywhere
}
