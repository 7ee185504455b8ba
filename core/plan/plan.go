// Package plan foretells a replica set before it is made: how long its first
// fill takes and how far behind its replicas will be, for each layout, and what
// stands in its way.
package plan

import (
	"cmp"
	"slices"
	"time"

	"bridgespan/core/calendar"
	"bridgespan/core/forecast"
	"bridgespan/core/replica"
)

// Count is a number of files and their bytes.
type Count struct {
	Files int64 `json:"files" doc:"Files"`
	Bytes int64 `json:"bytes" doc:"Their bytes"`
}

// Add counts one file.
func (c *Count) Add(bytes int64) { c.Files, c.Bytes = c.Files+1, c.Bytes+bytes }

// Content is what a place holds, as a listing tells it.
type Content struct {
	Folders int64 `json:"folders" doc:"Folders"`
	Count
	Weekly int64 `json:"weekly" doc:"Bytes of the files that were changed within the last seven days"`
	// Largest are the sizes of the largest files, the largest first.
	Largest     []int64 `json:"largest,omitempty" doc:"Sizes of its largest files, in bytes"`
	LongestPath string  `json:"longestPath,omitempty" doc:"The longest path"`
}

// Together is how many files are on their way to a replica at a time.
const Together = 8

// Add counts an entry: a folder when size is below 0.
func (c *Content) Add(name string, size int64, modified, now time.Time) {
	if len([]rune(name)) > len([]rune(c.LongestPath)) {
		c.LongestPath = name
	}
	if size < 0 {
		c.Folders++
		return
	}
	c.Count.Add(size)
	if now.Sub(modified) < 7*24*time.Hour {
		c.Weekly += size
	}
	if len(c.Largest) < Together || size > c.Largest[len(c.Largest)-1] {
		i, _ := slices.BinarySearchFunc(c.Largest, size, func(a, b int64) int { return cmp.Compare(b, a) })
		c.Largest = slices.Insert(c.Largest, i, size)
		c.Largest = c.Largest[:min(len(c.Largest), Together)]
	}
}

// Place is a replica that is planned.
type Place struct {
	ID   replica.ID
	Seed bool
	Content
	// Look is how long it takes to look at all of it, as far as is known.
	Look time.Duration
	// Against the seed: what is there already and the same, what differs, what the
	// seed does not have, and what is missing.
	Equal, Differ, Extra, Missing Count
}

// Load is what the first fill brings to a place.
func (p *Place) Load() forecast.Load {
	return forecast.Load{Bytes: p.Missing.Bytes + p.Differ.Bytes, Files: p.Missing.Files + p.Differ.Files}
}

// Work is what has to be read or brought over the way to a place for its first
// fill: what it holds already is read there, to be sure that it is the same.
func (p *Place) Work() forecast.Load {
	load := p.Load()
	return forecast.Load{Bytes: load.Bytes + p.Equal.Bytes, Files: load.Files + p.Equal.Files}
}

// Intake is how many bytes may be on their way to a replica at a time: as many as
// SideBySide needs, in full GiB, so that there is room for larger files to come.
func Intake(places []Place) int64 {
	const gib = 1 << 30
	return max((SideBySide(places)+gib-1)/gib*gib, gib)
}

// SideBySide is how many bytes are on their way to a replica at a time, at most: those
// of the largest files.
func SideBySide(places []Place) (sum int64) {
	var largest []int64
	for _, p := range places {
		largest = append(largest, p.Largest...)
	}
	slices.SortFunc(largest, func(a, b int64) int { return cmp.Compare(b, a) })
	for _, size := range largest[:min(len(largest), Together)] {
		sum += size
	}
	return sum
}

// Network tells what a lane runs over.
type Network func(l replica.Lane) (mbit float64, rtt time.Duration, week calendar.Week)

// Outlook is how a layout will do.
type Outlook struct {
	Lanes []replica.Lane
	// Fills tell when each replica but the seed is filled; those that nothing gets
	// to are missing.
	Fills map[replica.ID]forecast.Fill
	// Filled is when the last one is; zero when one never is.
	Filled time.Time
	Steady forecast.Outlook
	// Carried are the bytes that each lane carries in the first fill.
	Carried map[replica.Lane]int64
}

// Foretell tells how a layout will do from a moment on. Changes are taken to be
// made in office hours, as many each week as in the last one.
func Foretell(places []Place, lanes []replica.Lane, network Network, start time.Time) Outlook {
	o := Outlook{Lanes: lanes, Carried: map[replica.Lane]int64{}}
	loads, work, looks := map[replica.ID]forecast.Load{}, map[replica.ID]forecast.Load{}, map[replica.ID]time.Duration{}
	var seed replica.ID
	var weekly int64
	for i := range places {
		p := &places[i]
		loads[p.ID], work[p.ID], looks[p.ID] = p.Load(), p.Work(), p.Look
		if p.Seed {
			seed, weekly = p.ID, p.Weekly
		}
	}
	var ways []forecast.Way
	for _, l := range lanes {
		mbit, rtt, week := network(l)
		ways = append(ways, forecast.Way{Lane: l, Mbit: mbit, RTT: rtt, Calendar: week})
	}
	o.Fills = forecast.FirstFill(seed, ways, work, looks, start)
	for to, fill := range o.Fills {
		o.Carried[replica.Lane{From: fill.From, To: to}] += loads[to].Bytes
		if fill.End.After(o.Filled) {
			o.Filled = fill.End
		}
	}
	if len(o.Fills) < len(places)-1 {
		o.Filled = time.Time{}
	}
	o.Steady = Steady(seed, weekly, ways)
	return o
}

// Steady tells how far behind replicas are that are filled, when so many bytes
// are changed at one of them each week, in office hours.
func Steady(at replica.ID, weekly int64, ways []forecast.Way) forecast.Outlook {
	var changes []forecast.Changes
	if weekly > 0 {
		changes = append(changes, forecast.Spread(at, weekly, officeHours))
	}
	return forecast.Steady(ways, changes)
}

// officeHours is when people change files.
var officeHours = func() (w calendar.Week) {
	open := calendar.Outside([]time.Weekday{time.Monday, time.Tuesday, time.Wednesday, time.Thursday, time.Friday}, 8, 18, calendar.Off)
	for hour, rate := range open {
		if rate == calendar.Off {
			w[hour] = calendar.Full
		}
	}
	return w
}()
