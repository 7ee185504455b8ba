package dedup

import (
	"cmp"
	"slices"
	"time"

	"bridgespan/core/calendar"
)

// Window is a stretch of a week in which work goes on, by the clock on the wall.
type Window struct {
	Day   time.Weekday  `json:"day" doc:"On which it begins: 0 is Sunday"`
	From  int           `json:"from" doc:"Hour at which it begins"`
	Hours int           `json:"hours"`
	Rate  calendar.Rate `json:"-"`
	Pace  string        `json:"pace" doc:"full, or at most so many Mbit/s"`
	// Backup is how many of its hours a backup works in, too.
	Backup int `json:"backupHours" doc:"Hours in which a backup works, too"`
}

// Nights is how long the work takes, and when.
type Nights struct {
	Windows   []Window  `json:"windows"`
	WeekHours int       `json:"weekHours" doc:"Hours of a week in which it may work"`
	Rate      float64   `json:"rateMbit" doc:"Mbit/s at which it was measured to read, one window at full speed"`
	First     Pass      `json:"first" doc:"The first pass reads all that is in policy"`
	Later     Pass      `json:"later" doc:"Each later pass reads what changed in a day"`
	Begins    time.Time `json:"begins"`
	// Keeps is false when more changes in a week than a week's windows can read.
	Keeps bool `json:"keepsUp" doc:"Whether a week's windows can read what changes in a week"`
}

// Pass is one time that the work is done.
type Pass struct {
	Bytes   int64     `json:"bytes"`
	Hours   float64   `json:"hours" doc:"Hours of work"`
	Windows int       `json:"windows" doc:"How many windows it takes, the first one partly gone included"`
	Done    time.Time `json:"done,omitzero" doc:"When it is done; absent when never"`
}

// Windows are the stretches of a week in which it lets something through.
func Windows(week, backup *calendar.Week) []Window {
	list := []Window{}
	at := func(i int) calendar.Rate { return week[i%calendar.Hours] }
	start := 0 // where the rate changes: a window over the end of the week is one
	for start < calendar.Hours && at(start) == at(start+calendar.Hours-1) {
		start++
	}
	for i := start; i < start+calendar.Hours; {
		n := 1
		for n < calendar.Hours && i+n < start+calendar.Hours && at(i+n) == at(i) {
			n++
		}
		if at(i) != calendar.Off {
			hour := i % calendar.Hours
			w := Window{Day: time.Weekday((hour/24 + 1) % 7), From: hour % 24, Hours: n, Rate: at(i), Pace: at(i).String()}
			for k := range n {
				if backup[(i+k)%calendar.Hours] != calendar.Off {
					w.Backup++
				}
			}
			list = append(list, w)
		}
		i += n
	}
	slices.SortFunc(list, func(a, b Window) int {
		return cmp.Compare((int(a.Day)+6)%7*24+a.From, (int(b.Day)+6)%7*24+b.From)
	})
	return list
}

// Plan fits the work into a week: all bytes at first, and what changes in a day each
// day after, at so many Mbit/s where the week has no bound.
func Plan(week, backup calendar.Week, from time.Time, all, daily int64, mbit float64) Nights {
	n := Nights{Windows: Windows(&week, &backup), Rate: mbit, Begins: from}
	for _, w := range n.Windows {
		n.WeekHours += w.Hours
	}
	n.First = pass(&week, from, all, mbit)
	n.Later = pass(&week, from, daily, mbit)
	n.Keeps = week.Weekly(mbit) >= 7*daily
	return n
}

// mostLooked is how many windows are counted one by one.
const mostLooked = 5000

func pass(week *calendar.Week, from time.Time, bytes int64, mbit float64) Pass {
	p := Pass{Bytes: bytes}
	done, ok := week.Through(from, bytes, mbit)
	if !ok {
		return p
	}
	p.Done = done
	open := false
	for t, looked := from, 0; t.Before(done) && looked < mostLooked; looked++ {
		rate := week.At(t)
		next := week.Next(t)
		if next.IsZero() || next.After(done) {
			next = done
		}
		if rate != calendar.Off {
			p.Hours += next.Sub(t).Hours()
			if !open {
				p.Windows++
			}
		}
		open = rate != calendar.Off
		t = next
	}
	return p
}
