package replica

import (
	"testing"
	"time"
)

func TestRemovalGuard(t *testing.T) {
	start := time.Date(2026, 5, 4, 3, 2, 1, 0, time.UTC)
	type look struct {
		after         time.Duration
		missing, left int64
		exceeds       bool
	}
	for what, c := range map[string]struct {
		percent int
		looks   []look
	}{
		"without a bound":                  {0, []look{{0, 1000, 0, false}}},
		"a few of few":                     {10, []look{{0, LeastRemovals, 0, false}}},
		"one more of few":                  {10, []look{{0, LeastRemovals + 1, 0, true}}},
		"just the share":                   {10, []look{{0, 100, 900, false}}},
		"more than the share":              {10, []look{{0, 101, 899, true}}},
		"all, where all may go":            {100, []look{{0, 1000, 0, false}}},
		"little by little":                 {10, []look{{0, 60, 940, false}, {10 * time.Minute, 40, 900, false}, {20 * time.Minute, 1, 899, true}}},
		"little by little, in the evening": {10, []look{{0, 60, 940, false}, {10 * time.Minute, 40, 900, false}, {time.Hour, 50, 850, false}}},
		"nothing is missing":               {10, []look{{0, 90, 910, false}, {time.Minute, 0, 0, false}}},
	} {
		g := RemovalGuard{Percent: c.percent}
		for i, l := range c.looks {
			now := start.Add(l.after)
			if got := g.Exceeds(now, l.missing, l.left); got != l.exceeds {
				t.Errorf("%s: look %d exceeds: %v", what, i, got)
			}
			if !l.exceeds {
				g.Pass(now, l.missing)
			}
		}
	}
}

// However often removals pass, the guard keeps one count per minute of the window.
func TestRemovalGuardIsBounded(t *testing.T) {
	g := RemovalGuard{Percent: 10}
	now := time.Date(2026, 5, 4, 3, 2, 1, 0, time.UTC)
	for range 10_000 {
		now = now.Add(time.Second)
		if g.Exceeds(now, 1, 1_000_000) {
			t.Fatal("a few of a million are too many")
		}
		g.Pass(now, 1)
	}
	if len(g.passed) > 61 {
		t.Errorf("%d counts are kept", len(g.passed))
	}
	if !g.Exceeds(now, 1, 10_000) {
		t.Error("an hour of removals is not counted")
	}
}

func TestRemovalsKeepSomeExamples(t *testing.T) {
	var all Removals
	for range 3 {
		var some Removals
		for range 15 {
			some.Add(&Record{Key: "a", Content: Content{Size: 2}})
		}
		all.AddAll(some)
	}
	if all.Files != 45 || all.Bytes != 90 || len(all.Examples) != mostExamples {
		t.Errorf("%d files, %d bytes, %d examples", all.Files, all.Bytes, len(all.Examples))
	}
}
