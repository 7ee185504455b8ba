package plan

import (
	"slices"
	"time"

	"bridgespan/core/namespace"
)

// Route is a way from one site to another, over any number of legs.
type Route struct {
	Mbit float64       // of its slowest leg; 0 within a site
	RTT  time.Duration // of all its legs together
	// Sites are those that it leads through, its ends among them; one within a site,
	// none when no legs lead there.
	Sites []string
}

// Known reports whether there is such a way.
func (r *Route) Known() bool { return len(r.Sites) > 0 }

// Between is the fastest way from one site to another. Two servers at one site have
// no leg between them.
func Between(legs []namespace.Leg, from, to string) Route {
	if namespace.Key(from) == namespace.Key(to) {
		return Route{Sites: []string{from}}
	}
	best := map[string]Route{}
	for grown := true; grown; { // widen until no way gets any faster
		grown = false
		for _, l := range legs {
			for _, l := range []namespace.Leg{l, l.Turned()} {
				here, reached := best[namespace.Key(l.From)]
				first := namespace.Key(l.From) == namespace.Key(from)
				if !reached && !first || namespace.Key(l.To) == namespace.Key(from) {
					continue
				}
				on := Route{Mbit: l.Mbit, RTT: here.RTT + time.Duration(l.RTT*float64(time.Millisecond)), Sites: append(slices.Clone(here.Sites), l.To)}
				if first {
					on.Sites = []string{l.From, l.To}
				} else {
					on.Mbit = min(on.Mbit, here.Mbit)
				}
				if was, ok := best[namespace.Key(l.To)]; !ok || on.Mbit > was.Mbit {
					best[namespace.Key(l.To)], grown = on, true
				}
			}
		}
	}
	return best[namespace.Key(to)]
}

// Over is what crosses one leg, both ways together.
type Over struct {
	From, To string // its sites
	First    int64  // bytes of the first fill
	Weekly   int64  // bytes of what changes in a week
}

// OverLegs adds up what lanes carry over each leg, in the order in which legs are first
// crossed. routes are those of the lanes, in the order of the outlook's.
func (o *Outlook) OverLegs(routes []Route) (over []Over) {
	for i, r := range routes {
		for k := 1; k < len(r.Sites); k++ {
			from, to := r.Sites[k-1], r.Sites[k]
			at := slices.IndexFunc(over, func(l Over) bool { return l.From == from && l.To == to || l.From == to && l.To == from })
			if at < 0 {
				at = len(over)
				over = append(over, Over{From: from, To: to})
			}
			over[at].First += o.Carried[o.Lanes[i]]
			over[at].Weekly += o.Steady.Lanes[i].Weekly
		}
	}
	return over
}
