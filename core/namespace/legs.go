package namespace

import (
	"cmp"
	"slices"
)

// Leg is the network between two sites. It serves both ways alike, unless the
// way back is said to be another.
type Leg struct {
	From string  `json:"from" doc:"One end, a site"`
	To   string  `json:"to" doc:"The other end, a site"`
	Mbit float64 `json:"mbit" doc:"Speed in Mbit/s"`
	RTT  float64 `json:"rttMs" doc:"Round trip in milliseconds"`
	Cost int     `json:"cost" doc:"What directions count for people at from who are led to to; lower is nearer"`
	// BackMbit and BackCost are for the way from To to From; 0 when it is like the other.
	BackMbit float64 `json:"backMbit,omitempty" doc:"Speed from to back to from in Mbit/s; absent when it is the same"`
	BackCost int     `json:"backCost,omitempty" doc:"What directions count for people at to who are led to from; absent when it is the same"`
	// Version is kept by the records.
	Version int64 `json:"version,omitempty" doc:"Goes up with every change; the ETag"`
}

// Symmetric drops what is said of the way back when it is the same.
func (l Leg) Symmetric() Leg {
	if l.BackMbit == l.Mbit {
		l.BackMbit = 0
	}
	if l.BackCost == l.Cost {
		l.BackCost = 0
	}
	return l
}

// Turned is the same leg, told from its other end.
func (l Leg) Turned() Leg {
	back := l
	back.From, back.To = l.To, l.From
	back.Mbit, back.Cost = cmp.Or(l.BackMbit, l.Mbit), cmp.Or(l.BackCost, l.Cost)
	back.BackMbit, back.BackCost = l.Mbit, l.Cost
	return back.Symmetric()
}

// Network is a set of legs, ready to be asked for the cheapest way.
type Network struct{ costs map[string]map[string]int }

// NewNetwork works out the cheapest way between every two sites that legs
// connect, over any number of legs.
func NewNetwork(legs []Leg) *Network {
	direct := map[string]map[string]int{}
	connect := func(a, b string, cost int) {
		if direct[a] == nil {
			direct[a] = map[string]int{}
		}
		if old, ok := direct[a][b]; !ok || cost < old {
			direct[a][b] = cost
		}
	}
	for _, leg := range legs {
		connect(leg.From, leg.To, leg.Cost)
		connect(leg.To, leg.From, cmp.Or(leg.BackCost, leg.Cost))
	}
	n := &Network{costs: map[string]map[string]int{}}
	for site := range direct {
		n.costs[site] = cheapest(direct, site)
	}
	return n
}

// cheapest is Dijkstra's algorithm; there are tens of sites, so that a plain
// scan for the nearest open one is faster than a heap.
func cheapest(direct map[string]map[string]int, start string) map[string]int {
	best := map[string]int{start: 0}
	var done []string
	for {
		next, found := "", false
		for site, cost := range best {
			if !slices.Contains(done, site) && (!found || cost < best[next]) {
				next, found = site, true
			}
		}
		if !found {
			return best
		}
		done = append(done, next)
		for neighbour, cost := range direct[next] {
			if old, ok := best[neighbour]; !ok || best[next]+cost < old {
				best[neighbour] = best[next] + cost
			}
		}
	}
}

// Cost is the cost of the cheapest way, 0 within a site. ok is false when no
// way is known.
func (n *Network) Cost(from, to string) (cost int, ok bool) {
	if from == to {
		return 0, true
	}
	if n == nil {
		return 0, false
	}
	cost, ok = n.costs[from][to]
	return cost, ok
}
