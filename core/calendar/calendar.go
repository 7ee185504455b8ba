// Package calendar tells how much may be carried when: a week of hours, each
// with a rate. It answers what fits into a window, and when so many bytes are
// through.
package calendar

import (
	"math"
	"time"
)

// Rate is how fast an hour may carry, in Mbit/s (10^6 bits a second).
type Rate float64

const (
	// Off lets nothing through.
	Off Rate = 0
	// Full lets through whatever the way can carry.
	Full Rate = -1
)

// Hours is how many hours a week has.
const Hours = 7 * 24

// Week is a week of hours, from Monday 0:00 on, by the clock on the wall. The
// zero value is off all week.
type Week [Hours]Rate

// Always is a week without bounds.
func Always() (w Week) {
	for i := range w {
		w[i] = Full
	}
	return w
}

// Outside is full but for the hours from one o'clock to another on some days,
// where it has another rate: office hours, a backup's window.
func Outside(days []time.Weekday, from, to int, rate Rate) Week {
	w := Always()
	for _, day := range days {
		for hour := from; hour < to; hour++ {
			w[hourOf(day, hour)] = rate
		}
	}
	return w
}

// hourOf is the index of an hour in a week.
func hourOf(day time.Weekday, hour int) int { return (int(day)+6)%7*24 + hour }

// At is the rate at a moment, by the clock of its location.
func (w *Week) At(t time.Time) Rate { return w[hourOf(t.Weekday(), t.Hour())] }

// Closed reports whether nothing is ever let through.
func (w *Week) Closed() bool { return *w == Week{} }

// Speed is what an hour carries over a way of so many Mbit/s, in bytes a second.
func (r Rate) Speed(way float64) float64 {
	mbit := float64(r)
	if r < 0 || mbit > way {
		mbit = way
	}
	return mbit * 1e6 / 8
}

// Next is the first moment after t at which the rate is another; zero when it
// never is.
func (w *Week) Next(t time.Time) time.Time {
	rate := w.At(t)
	for range Hours + 24 {
		if t = nextHour(t); w.At(t) != rate {
			return t
		}
	}
	return time.Time{}
}

// nextHour is when the hour on the wall is over. Where clocks are put forward or
// back it is the next moment at which the wall shows a full hour.
func nextHour(t time.Time) time.Time {
	in := time.Hour - time.Duration(t.Minute())*time.Minute - time.Duration(t.Second())*time.Second - time.Duration(t.Nanosecond())
	return t.Add(in)
}

// Capacity is how many bytes fit between two moments, over a way of so many Mbit/s.
func (w *Week) Capacity(from, to time.Time, way float64) int64 {
	var bytes float64
	for from.Before(to) {
		end := nextHour(from)
		if end.After(to) {
			end = to
		}
		bytes += w.At(from).Speed(way) * end.Sub(from).Seconds()
		from = end
	}
	return int64(bytes)
}

// Weekly is how many bytes fit into a week of 168 hours.
func (w *Week) Weekly(way float64) int64 {
	var bytes float64
	for _, r := range w {
		bytes += r.Speed(way) * 3600
	}
	return int64(bytes)
}

// Through is when so many bytes that begin at a moment are through, over a way
// of so many Mbit/s. ok is false when they never are.
func (w *Week) Through(from time.Time, bytes int64, way float64) (at time.Time, ok bool) {
	weekly := w.Weekly(way)
	switch {
	case bytes <= 0:
		return from, true
	case weekly <= 0:
		return time.Time{}, false
	}
	left := float64(bytes)
	// Whole weeks at once, but the last two: those are gone through by the hour,
	// since one in which clocks change is longer or shorter.
	if weeks := math.Floor(left/float64(weekly)) - 2; weeks > 0 {
		if weeks > 52*1000 {
			return time.Time{}, false
		}
		end := from.AddDate(0, 0, 7*int(weeks))
		left -= float64(w.whole(from, end, way))
		from = end
	}
	for {
		end := nextHour(from)
		speed := w.At(from).Speed(way)
		if carried := speed * end.Sub(from).Seconds(); carried < left {
			left -= carried
			from = end
			continue
		}
		return from.Add(time.Duration(left / speed * float64(time.Second))), true
	}
}

// whole is Capacity of whole weeks: only those hours in which clocks change are
// other than every week.
func (w *Week) whole(from, to time.Time, way float64) int64 {
	_, before := from.Zone()
	_, after := to.Zone()
	if weeks := to.Sub(from).Hours() / Hours; before == after && weeks <= 4 || to.Location() == time.UTC {
		return int64(math.Round(weeks)) * w.Weekly(way)
	}
	return w.Capacity(from, to, way)
}
