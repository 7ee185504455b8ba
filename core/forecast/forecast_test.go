package forecast

import (
	"testing"
	"time"

	"bridgespan/core/calendar"
	"bridgespan/core/replica"
)

func week(t testing.TB, text string) calendar.Week {
	t.Helper()
	w, err := calendar.Parse("calendar", text)
	if err != nil {
		t.Fatal(err)
	}
	return w
}

// over gives lanes ways: 1 and 2 are 100 Mbit/s apart, 3 is behind 20 Mbit/s.
func over(t testing.TB, lanes []replica.Lane, text string) (ways []Way) {
	for _, l := range lanes {
		w := Way{Lane: l, Mbit: 100, RTT: 20 * time.Millisecond, Calendar: week(t, text)}
		if l.From == 3 || l.To == 3 {
			w.Mbit, w.RTT = 20, 60*time.Millisecond
		}
		ways = append(ways, w)
	}
	return ways
}

var monday = time.Date(2026, 3, 2, 0, 0, 0, 0, time.UTC)

func TestFirstFill(t *testing.T) {
	ids := []replica.ID{1, 2, 3}
	gigabytes := func(n int64) map[replica.ID]Load {
		return map[replica.ID]Load{2: {Bytes: n * 1e9}, 3: {Bytes: n * 1e9}}
	}
	hours := func(n float64) time.Duration { return time.Duration(n * float64(time.Hour)) }
	for name, c := range map[string]struct {
		ways        []Way
		loads       map[replica.ID]Load
		looks       map[replica.ID]time.Duration
		two, three  time.Duration
		fillsThree  replica.ID
		unreachable bool
	}{
		"mesh: from the seed":      {over(t, replica.Mesh(ids), "full"), gigabytes(45), nil, hours(1), hours(5), 1, false},
		"chain: one after another": {over(t, replica.Chain(ids), "full"), gigabytes(45), nil, hours(1), hours(6), 2, false},
		"not by day":               {over(t, replica.Mesh(ids), "full; 8-18 off"), gigabytes(90), nil, hours(2), hours(20), 1, false},
		"looks come first":         {over(t, replica.Mesh(ids), "full"), gigabytes(45), map[replica.ID]time.Duration{1: hours(0.5), 2: hours(0.25), 3: hours(2)}, hours(1.5), hours(7), 1, false},
		"small files wait":         {over(t, replica.Mesh(ids), "full"), map[replica.ID]Load{2: {Files: 480_000}, 3: {Files: 160_000}}, nil, hours(1), hours(1), 1, false},
		"closed":                   {over(t, replica.Mesh(ids), "off"), gigabytes(1), nil, 0, 0, 0, true},
	} {
		got := FirstFill(1, c.ways, c.loads, c.looks, monday)
		if c.unreachable {
			if len(got) != 0 {
				t.Errorf("%s: %v", name, got)
			}
			continue
		}
		if d := got[2].End.Sub(monday); (d - c.two).Abs() > time.Second {
			t.Errorf("%s: 2 after %v, want %v", name, d, c.two)
		}
		if d := got[3].End.Sub(monday); (d-c.three).Abs() > time.Second || got[3].From != c.fillsThree {
			t.Errorf("%s: 3 after %v from %d, want %v from %d", name, d, got[3].From, c.three, c.fillsThree)
		}
	}
}

func TestSteady(t *testing.T) {
	ids := []replica.ID{1, 2, 3}
	working := week(t, "off; mon-fri 8-18 full")
	// 9 GB a week at each, changed in office hours: 22.5 MB a quarter of an hour each.
	var changes []Changes
	for _, id := range ids {
		changes = append(changes, Spread(id, 9e9, working))
	}
	near := func(what string, got, want, tolerance time.Duration) {
		t.Helper()
		if (got - want).Abs() > tolerance {
			t.Errorf("%s: %v, want %v", what, got, want)
		}
	}
	mesh := Steady(over(t, replica.Mesh(ids), "full"), changes)
	if mesh.Endless() || len(mesh.Lanes) != 6 || mesh.Lanes[0].Weekly != 9e9 || len(mesh.Lags) != 3 {
		t.Fatalf("mesh: %+v", mesh)
	}
	near("mesh, always open, at 3", mesh.Lags[3].P95, 30*time.Second, 30*time.Second)
	// By night alone: what changes at 8:00 waits for ten hours, at 17:59 for none.
	night := Steady(over(t, replica.Mesh(ids), "full; mon-fri 8-18 off"), changes)
	near("by night, the median at 2", night.Lags[2].Median, 5*time.Hour, 20*time.Minute)
	near("by night, 95 of 100 at 2", night.Lags[2].P95, 9*time.Hour+30*time.Minute, 20*time.Minute)
	// The hub's lanes carry what the others changed, too.
	hub := Steady(over(t, replica.Hub(1, ids), "full"), changes)
	for _, l := range hub.Lanes {
		if want := map[replica.ID]int64{1: 18e9}[l.From] + map[bool]int64{true: 9e9}[l.From != 1]; l.Weekly != want {
			t.Errorf("hub: %+v, want %d", l, want)
		}
	}
	if hub.Lags[3].Median < mesh.Lags[3].Median {
		t.Errorf("by the hub changes are sooner at 3: %v, %v", hub.Lags[3], mesh.Lags[3])
	}
	// A lane that is too thin.
	thin := Steady(over(t, replica.Mesh(ids), "0.1"), changes)
	if !thin.Endless() || len(thin.Lags) != 0 || thin.Lanes[0].Fits >= 9e9 {
		t.Errorf("thin: %+v", thin)
	}
	if quiet := Steady(over(t, replica.Mesh(ids), "full"), nil); quiet.Endless() || len(quiet.Lags) != 0 {
		t.Errorf("without changes: %+v", quiet)
	}
}

// What changes is spread without loss.
func TestSpread(t *testing.T) {
	c := Spread(1, 1_000_003, week(t, "off; mon-fri 8-18 full"))
	var sum int64
	for hour, bytes := range c.Hours {
		sum += bytes
		if day, of := hour/24, hour%24; bytes > 0 && (day > 4 || of < 8 || of >= 18) {
			t.Errorf("%d bytes on day %d at %d", bytes, day, of)
		}
	}
	if sum != 1_000_003 {
		t.Errorf("%d bytes in all", sum)
	}
}

func BenchmarkSteady(b *testing.B) {
	var ids []replica.ID
	var changes []Changes
	working := week(b, "off; mon-fri 8-18 full")
	for id := range replica.ID(10) {
		ids = append(ids, id+1)
		changes = append(changes, Spread(id+1, 9e9, working))
	}
	ways := over(b, replica.Mesh(ids), "full; mon-fri 8-18 4")
	for b.Loop() {
		Steady(ways, changes)
	}
}

func TestArrivals(t *testing.T) {
	monday := time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)
	night, err := calendar.Parse("calendar", "off; 18-24 full")
	if err != nil {
		t.Fatal(err)
	}
	way := func(from, to replica.ID, rtt time.Duration, week calendar.Week) Way {
		return Way{Lane: replica.Lane{From: from, To: to}, Mbit: 10, RTT: rtt, Calendar: week}
	}
	ways := []Way{way(1, 2, 100*time.Millisecond, calendar.Always()), way(1, 3, 0, night), way(2, 3, time.Second, calendar.Always()), way(3, 4, 0, night), way(1, 5, 0, calendar.Week{}), way(6, 1, 0, calendar.Always())}
	got := Arrivals(map[replica.ID]time.Time{1: monday}, ways, 0, time.Second)
	for id, want := range map[replica.ID]time.Duration{
		1: 0,
		2: time.Second + 1600*time.Millisecond,
		3: 2*time.Second + 17600*time.Millisecond, // by way of 2, since the straight way is closed
		4: 6*time.Hour + time.Second,
	} {
		if after := got[id].At.Sub(monday); after != want {
			t.Errorf("at %d after %s, want %s", id, after, want)
		}
	}
	if len(got) != 4 {
		t.Errorf("what nothing gets to: %v", got)
	}
	if got[1].By != -1 || got[3].By != 2 || got[4].By != 3 || got[4].Sent.Sub(monday) != 6*time.Hour {
		t.Errorf("the ways are %+v", got)
	}
}

// What waits for a way is sent before, at the way's speed; what is at several replicas comes from the nearest.
func TestArrivalsOfBytes(t *testing.T) {
	way := func(from, to replica.ID, waits int64) Way {
		return Way{Lane: replica.Lane{From: from, To: to}, Mbit: 80, Calendar: calendar.Always(), Waits: waits}
	}
	ways := []Way{way(1, 2, 50e6), way(2, 3, 0), way(4, 3, 1e9)}
	there := map[replica.ID]time.Time{1: monday, 4: monday}
	got := Arrivals(there, ways, 10e6, 0)
	for id, want := range map[replica.ID]time.Duration{2: 6 * time.Second, 3: 7 * time.Second} {
		if after := got[id].At.Sub(monday); after != want {
			t.Errorf("at %d after %s, want %s", id, after, want)
		}
	}
	ways[1].Calendar, ways[1].Mbit = week(t, "off; 18-24 full"), 0.008 // 1 kB/s: not through in an evening
	if got := Arrivals(there, ways, 30e6, 0); got[3].At.Sub(monday) != 103*time.Second || got[3].By != 2 {
		t.Errorf("past a slow way: %+v", got[3])
	}
}
