package dedup

import (
	"math"
	"testing"
	"time"
)

func TestRunway(t *testing.T) {
	const gb = 1_000_000_000
	at := func(days, saving, free int64) Point {
		return Point{now.AddDate(0, 0, int(days)), saving * gb, free * gb}
	}
	never := math.NaN()
	for name, c := range map[string]struct {
		points                []Point
		growth, without, with float64
	}{
		// 10 GB a week into 110; half of all is saved, so that 5 GB a week go into 110+60.
		"steady":           {[]Point{at(0, 50, 130), at(7, 55, 120), at(14, 60, 110)}, 10, 11, 34},
		"no more":          {[]Point{at(0, 50, 130), at(14, 50, 130)}, 0, never, never},
		"shrinks":          {[]Point{at(0, 50, 130), at(14, 40, 150)}, -10, never, never},
		"slowly":           {[]Point{at(0, 50, 9001), at(7, 50, 9000)}, 1, never, never},
		"all of it shared": {[]Point{at(0, 50, 20), at(7, 60, 10)}, 10, 1, never},
		"full":             {[]Point{at(0, 0, 10), at(7, 0, 0)}, 10, 0, 0},
		"costs":            {[]Point{at(0, -10, 21), at(7, -11, 11)}, 10, 1.1, 1},
		// A line through all, not from the first to the last alone.
		"unsteady": {[]Point{at(0, 0, 100), at(7, 0, 70), at(14, 0, 90), at(21, 0, 60)}, 10, 6, 6},
	} {
		got := NewRunway(c.points)
		same := func(got *float64, want float64) bool {
			return got == nil && math.IsNaN(want) || got != nil && math.Abs(*got-want) < 1e-9
		}
		if got == nil || got.Growth != int64(c.growth*gb) || !same(got.Without, c.without) || !same(got.With, c.with) {
			t.Errorf("%s: %+v, want %v", name, got, c)
		}
	}
	for name, points := range map[string][]Point{"nothing": nil, "one": {at(0, 1, 1)}, "too close": {at(0, 1, 1), {At: now.Add(23 * time.Hour)}}} {
		if got := NewRunway(points); got != nil {
			t.Errorf("%s: %+v", name, got)
		}
	}
}
