package plan

import (
	"slices"
	"testing"
	"time"

	"bridgespan/core/calendar"
	"bridgespan/core/forecast"
	"bridgespan/core/replica"
)

var start = time.Date(2026, 3, 2, 0, 0, 0, 0, time.UTC) // a Monday

func TestContent(t *testing.T) {
	var c Content
	now := start
	c.Add("folder", -1, now, now)
	for i := range int64(20) {
		c.Add("folder/file", 100*(i%10), now.AddDate(0, 0, -int(i)), now)
	}
	c.Add("folder/a longer name", 5, now.AddDate(-1, 0, 0), now)
	if c.Folders != 1 || c.Files != 21 || c.Bytes != 9005 || c.LongestPath != "folder/a longer name" {
		t.Errorf("counted %+v", c)
	}
	if want := []int64{900, 900, 800, 800, 700, 700, 600, 600}; !slices.Equal(c.Largest, want) {
		t.Errorf("the largest are %v, want %v", c.Largest, want)
	}
	if c.Weekly != 0+100+200+300+400+500+600 {
		t.Errorf("changed in the last week: %d", c.Weekly)
	}
}

func TestIntake(t *testing.T) {
	place := func(sizes ...int64) Place { return Place{Content: Content{Largest: sizes}} }
	for _, c := range []struct {
		places []Place
		needs  int64
		want   int64
	}{
		{nil, 0, 1 << 30},
		{[]Place{place(5), place(7)}, 12, 1 << 30},
		{[]Place{place(3<<30, 1), place(2 << 30)}, 5<<30 + 1, 6 << 30},
		{[]Place{place(1<<30, 1<<30, 1<<30, 1<<30, 1<<30), place(1<<30, 1<<30, 1<<30, 1<<30, 1<<30)}, 8 << 30, 8 << 30},
	} {
		if needs, got := SideBySide(c.places), Intake(c.places); needs != c.needs || got != c.want {
			t.Errorf("%v: %d of %d, want %d of %d", c.places, needs, got, c.needs, c.want)
		}
	}
}

// A hub fills its far replicas side by side; a chain one after the other.
func TestForetell(t *testing.T) {
	places := []Place{{ID: 1, Seed: true, Content: Content{Weekly: 1e9}}, {ID: 2, Missing: Count{1, 45e9}}, {ID: 3, Missing: Count{1, 45e9}}}
	ids := []replica.ID{1, 2, 3}
	network := func(l replica.Lane) (float64, time.Duration, calendar.Week) { return 100, 0, calendar.Always() }
	hub := Foretell(places, replica.Hub(1, ids), network, start)
	chain := Foretell(places, replica.Chain(ids), network, start)
	if want := start.Add(time.Hour); !hub.Filled.Equal(want) {
		t.Errorf("the hub is filled at %v, want %v", hub.Filled, want)
	}
	if want := start.Add(2 * time.Hour); !chain.Filled.Equal(want) || chain.Fills[3].From != 2 {
		t.Errorf("the chain is filled at %v, want %v: %+v", chain.Filled, want, chain.Fills)
	}
	if got := chain.Carried[replica.Lane{From: 2, To: 3}]; got != 45e9 {
		t.Errorf("the last lane carries %d", got)
	}
	if hub.Steady.Endless() || hub.Steady.Lags[3].P95 <= 0 {
		t.Errorf("steady: %+v", hub.Steady)
	}
	closed := Foretell(places, replica.Hub(1, ids), func(l replica.Lane) (float64, time.Duration, calendar.Week) {
		if l.To == 3 {
			return 100, 0, calendar.Week{}
		}
		return network(l)
	}, start)
	if !closed.Filled.IsZero() || !closed.Steady.Endless() || len(closed.Fills) != 1 {
		t.Errorf("with a lane that never opens: %+v", closed)
	}
}

// What changes at one replica each week arrives at the others as far as ways lead
// there; nothing that changes lags by nothing.
func TestSteady(t *testing.T) {
	always := calendar.Always()
	ways := []forecast.Way{{Lane: replica.Lane{From: 1, To: 2}, Mbit: 100, Calendar: always}, {Lane: replica.Lane{From: 2, To: 3}, Mbit: 1, Calendar: always}}
	o := Steady(1, 1<<30, ways)
	if o.Endless() || o.Lanes[0].Weekly < 1<<30-1<<20 || o.Lanes[1].Weekly < 1<<30-1<<20 || o.Lags[3].P95 < o.Lags[2].P95 {
		t.Errorf("a gibibyte a week: %+v", o)
	}
	if o := Steady(1, 1<<40, ways); !o.Endless() {
		t.Errorf("more than the slower one carries: %+v", o)
	}
	if o := Steady(1, 0, ways); o.Endless() || o.Lanes[0].Weekly != 0 {
		t.Errorf("nothing: %+v", o)
	}
}
