package dedup

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"bridgespan/core/calendar"
)

func week(t *testing.T, text string) calendar.Week {
	t.Helper()
	w, err := calendar.Parse("week", text)
	if err != nil {
		t.Fatal(err)
	}
	return w
}

func TestWindows(t *testing.T) {
	for text, c := range map[string]struct {
		backup string
		want   []string
	}{
		"off":                               {"off", nil},
		"full":                              {"off", []string{"Monday 0+168 full 0"}},
		"off; mon 20-24 full":               {"off; mon 22-24 full", []string{"Monday 20+4 full 2"}},
		"off; mon 20-24 full; tue 0-6 full": {"off; tue 5-9 full", []string{"Monday 20+10 full 1"}},
		"off; sun 22-24 full; mon 0-4 full": {"off", []string{"Sunday 22+6 full 0"}},
		"off; wed 8-18 20; wed 18-22 full":  {"off", []string{"Wednesday 8+10 20 0", "Wednesday 18+4 full 0"}},
		"off; tue 1-2 full; fri 3-5 full":   {"full", []string{"Tuesday 1+1 full 1", "Friday 3+2 full 2"}},
	} {
		w, b := week(t, text), week(t, c.backup)
		var got []string
		for _, v := range Windows(&w, &b) {
			got = append(got, fmt.Sprintf("%s %d+%d %s %d", v.Day, v.From, v.Hours, v.Pace, v.Backup))
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s: %q, want %q", text, got, c.want)
		}
	}
}

func TestPlan(t *testing.T) {
	friday := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
	hour := int64(100e6 / 8 * 3600) // at 100 Mbit/s
	for name, c := range map[string]struct {
		week       string
		all, daily int64
		windows    int
		hours      float64
		done       time.Time
		keeps      bool
	}{
		"one night":    {"off; 20-24 full", 3 * hour, hour / 2, 1, 3, time.Date(2026, 11, 27, 23, 0, 0, 0, time.UTC), true},
		"three nights": {"off; 20-24 full", 10 * hour, hour, 3, 10, time.Date(2026, 11, 29, 22, 0, 0, 0, time.UTC), true},
		"at a pace":    {"off; 20-24 50", 3 * hour, hour, 2, 6, time.Date(2026, 11, 28, 22, 0, 0, 0, time.UTC), true},
		"never":        {"off", hour, hour, 0, 0, time.Time{}, false},
		"not kept up":  {"off; sat 0-1 full", hour, hour, 1, 1, time.Date(2026, 11, 28, 1, 0, 0, 0, time.UTC), false},
		"nothing":      {"full", 0, 0, 0, 0, friday, true},
		"in a window":  {"off; fri 11-13 full", hour + hour/2, 0, 2, 1.5, time.Date(2026, 12, 4, 11, 30, 0, 0, time.UTC), true},
	} {
		n := Plan(week(t, c.week), calendar.Week{}, friday, c.all, c.daily, 100)
		if p := n.First; p.Windows != c.windows || p.Hours < c.hours-0.01 || p.Hours > c.hours+0.01 || !p.Done.Equal(c.done) || n.Keeps != c.keeps {
			t.Errorf("%s: %+v, keeps up: %v", name, p, n.Keeps)
		}
	}
}
