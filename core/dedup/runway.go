package dedup

import (
	"math"
	"time"
)

// Point is what one estimate of a volume came to.
type Point struct {
	At     time.Time
	Saving int64
	Free   int64 // of the storage under the volume
}

// Runway is how long free space lasts.
type Runway struct {
	// Growth and Stored are lines through what the estimates found, by least squares.
	Growth  int64    `json:"growthBytes" doc:"Bytes by which free space shrinks in a week, whatever fills it; fewer than none when it grows"`
	Stored  int64    `json:"storedBytes" doc:"The same, if what would be saved were: it grows with the volume"`
	Free    int64    `json:"freeBytes" doc:"Free space at the last estimate"`
	Without *float64 `json:"withoutWeeks,omitempty" doc:"Weeks until no space is free; absent when it does not shrink"`
	With    *float64 `json:"withWeeks,omitempty" doc:"The same once what would be saved is free as well; absent when it does not shrink"`
}

// Bounds of what is told: estimates that are closer together tell nothing of a week,
// and nobody knows what is further away.
const (
	leastSpan  = 24 * time.Hour
	mostWeeks  = 520
	secondWeek = 7 * 24 * 3600
)

// NewRunway tells how long the space lasts, from estimates in the order of their
// times; nil when these do not tell.
func NewRunway(points []Point) *Runway {
	if len(points) < 2 {
		return nil
	}
	last := points[len(points)-1]
	if last.At.Sub(points[0].At) < leastSpan {
		return nil
	}
	grows := -slope(points, func(p *Point) int64 { return p.Free })
	stored := grows - slope(points, func(p *Point) int64 { return p.Saving })
	return &Runway{Growth: int64(math.Round(grows)), Stored: int64(math.Round(stored)), Free: last.Free,
		Without: weeks(last.Free, grows), With: weeks(last.Free+max(last.Saving, 0), stored)}
}

// slope is by how much something grows in a week.
func slope(points []Point, of func(*Point) int64) float64 {
	var x, y, xx, xy float64
	begin, n := points[0].At, float64(len(points))
	for i := range points {
		at, v := points[i].At.Sub(begin).Seconds()/secondWeek, float64(of(&points[i]))
		x, y, xx, xy = x+at, y+v, xx+at*at, xy+at*v
	}
	return (n*xy - x*y) / (n*xx - x*x)
}

// weeks is how long space lasts; nil when for longer than can be told.
func weeks(space int64, grows float64) *float64 {
	if grows <= 0 || float64(space)/grows > mostWeeks {
		return nil
	}
	w := max(float64(space)/grows, 0)
	return &w
}
