package plan

import (
	"slices"
	"strings"
	"testing"
	"time"

	"bridgespan/core/forecast"
	"bridgespan/core/namespace"
	"bridgespan/core/replica"
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
		sites    string
	}{
		{"A", "b", 100, 10 * time.Millisecond, "A B"},
		{"A", "C", 20, 50 * time.Millisecond, "A B C"}, // by way of B, although a leg leads there
		{"C", "A", 5, 50 * time.Millisecond, "C B A"},
		{"A", "A", 0, 0, "A"},
		{"A", "E", 0, 0, ""},
		{"A", "nowhere", 0, 0, ""},
	} {
		r := Between(legs, c.from, c.to)
		if r.Mbit != c.mbit || r.RTT != c.rtt || strings.Join(r.Sites, " ") != c.sites || r.Known() != (c.sites != "") {
			t.Errorf("%s to %s: %+v; want %v, %v, %v", c.from, c.to, r, c.mbit, c.rtt, c.sites)
		}
	}
}

// What goes from site to site crosses every leg between them; both ways count.
func TestOverLegs(t *testing.T) {
	there, back, near := replica.Lane{From: 1, To: 2}, replica.Lane{From: 2, To: 1}, replica.Lane{From: 1, To: 3}
	o := Outlook{Lanes: []replica.Lane{there, back, near}, Carried: map[replica.Lane]int64{there: 100, near: 7}}
	o.Steady.Lanes = []forecast.LaneLoad{{Weekly: 10}, {Weekly: 3}, {Weekly: 1}}
	got := o.OverLegs([]Route{{Sites: []string{"A", "B", "C"}}, {Sites: []string{"C", "B", "A"}}, {Sites: []string{"A"}}})
	if want := []Over{{"A", "B", 100, 13}, {"B", "C", 100, 13}}; !slices.Equal(got, want) {
		t.Errorf("%+v, want %+v", got, want)
	}
	if got := o.OverLegs(make([]Route, 3)); got != nil {
		t.Errorf("over legs that nobody knows: %+v", got)
	}
}

func TestMoney(t *testing.T) {
	for _, c := range []struct {
		amount   float64
		currency string
		want     string
	}{{0, "EUR", "0.00 EUR"}, {0.001, "EUR", "less than 0.01 EUR"}, {1234.5, "EUR", "1,234.50 EUR"}, {5, "", "price unknown"}} {
		if got := Money(c.amount, c.currency); got != c.want {
			t.Errorf("%g %s: %q, want %q", c.amount, c.currency, got, c.want)
		}
	}
}
