package plan

import (
	"time"

	"bridgespan/core/namespace"
)

// Between tells how fast the way from one site to another is, over any number of
// legs: as fast as its slowest leg, and the fastest of all ways. known is false
// when no legs lead there. Two servers at one site have no leg between them:
// mbit is 0 then.
func Between(legs []namespace.Leg, from, to string) (mbit float64, rtt time.Duration, known bool) {
	if namespace.Key(from) == namespace.Key(to) {
		return 0, 0, true
	}
	type way struct {
		mbit float64
		rtt  time.Duration
	}
	best := map[string]way{}
	for grown := true; grown; { // widen until no way gets any faster
		grown = false
		for _, l := range legs {
			for _, l := range []namespace.Leg{l, l.Turned()} {
				here, reached := best[namespace.Key(l.From)]
				first := namespace.Key(l.From) == namespace.Key(from)
				if !reached && !first || namespace.Key(l.To) == namespace.Key(from) {
					continue
				}
				on := way{l.Mbit, here.rtt + time.Duration(l.RTT*float64(time.Millisecond))}
				if !first {
					on.mbit = min(on.mbit, here.mbit)
				}
				if was, ok := best[namespace.Key(l.To)]; !ok || on.mbit > was.mbit {
					best[namespace.Key(l.To)], grown = on, true
				}
			}
		}
	}
	found, known := best[namespace.Key(to)]
	return found.mbit, found.rtt, known
}
