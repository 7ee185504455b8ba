package plan

import (
	"testing"
	"time"

	"bridgespan/core/namespace"
)

func TestBetween(t *testing.T) {
	legs := []namespace.Leg{
		{From: "A", To: "B", Mbit: 100, RTT: 10},
		{From: "B", To: "C", Mbit: 20, RTT: 40, BackMbit: 5},
		{From: "A", To: "C", Mbit: 1, RTT: 1},
		{From: "D", To: "E", Mbit: 7, RTT: 2},
	}
	for _, c := range []struct {
		from, to string
		mbit     float64
		rtt      time.Duration
		known    bool
	}{
		{"A", "b", 100, 10 * time.Millisecond, true},
		{"A", "C", 20, 50 * time.Millisecond, true}, // by way of B, although a leg leads there
		{"C", "A", 5, 50 * time.Millisecond, true},
		{"A", "A", 0, 0, true},
		{"A", "E", 0, 0, false},
		{"A", "nowhere", 0, 0, false},
	} {
		if mbit, rtt, known := Between(legs, c.from, c.to); mbit != c.mbit || rtt != c.rtt || known != c.known {
			t.Errorf("%s to %s: %v, %v, %v; want %v, %v, %v", c.from, c.to, mbit, rtt, known, c.mbit, c.rtt, c.known)
		}
	}
}
