package account

// Reach says which of several servers with the same permissions can resolve an account.
type Reach string

const (
	ReachEverywhere Reach = "everywhere" // all of them, and it is the same account
	ReachMapped     Reach = "mapped"     // all of them; at some it is another account, through an account map
	ReachLocal      Reach = "local"      // some of them; at the others it is a bare SID
	ReachNone       Reach = "unresolved" // none of them
)

// Sight is an account as one server sees it.
type Sight struct {
	Known  bool // the server can resolve it
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
		return ReachNone
	case known < len(seen):
		return ReachLocal
	case paired:
		return ReachMapped
	}
	return ReachEverywhere
}

// Beyond is the reach of an account of one server beyond that server.
func Beyond(kind Kind, origin Origin) Reach {
	switch {
	case kind == Unresolved:
		return ReachNone
	case origin == OfDomain, origin == Anywhere:
		return ReachEverywhere
	}
	return ReachLocal
}
