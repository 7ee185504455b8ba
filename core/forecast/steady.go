package forecast

import (
	"cmp"
	"slices"
	"time"

	"bridgespan/core/calendar"
	"bridgespan/core/replica"
)

// Changes are the bytes that change at a replica, hour by hour of a week.
type Changes struct {
	At    replica.ID
	Hours [calendar.Hours]int64
}

// Spread spreads the changes of a week over the hours in which people work: a
// week of which the hours that are not off count.
func Spread(at replica.ID, bytes int64, working calendar.Week) Changes {
	c := Changes{At: at}
	var open []int
	for hour, rate := range working {
		if rate != calendar.Off {
			open = append(open, hour)
		}
	}
	for i, hour := range open {
		n := int64(len(open))
		c.Hours[hour] = bytes*int64(i+1)/n - bytes*int64(i)/n
	}
	return c
}

// Lag is how long changes are on their way, by their bytes.
type Lag struct {
	Median, P95 time.Duration
}

// LaneLoad is what a way has to carry in a week, and what fits.
type LaneLoad struct {
	replica.Lane
	Weekly int64 // bytes that change and go this way
	Fits   int64 // bytes that the week lets through
}

// Endless reports whether more changes than fits: the backlog grows without end.
func (l *LaneLoad) Endless() bool { return l.Weekly > l.Fits }

// Outlook is how a layout does once it is filled.
type Outlook struct {
	// Lags are of each replica that changes get to, until they are there.
	Lags map[replica.ID]Lag
	// Lanes are in the order of the ways.
	Lanes []LaneLoad
}

// Endless reports whether a backlog grows without end.
func (o *Outlook) Endless() bool {
	return slices.ContainsFunc(o.Lanes, func(l LaneLoad) bool { return l.Endless() })
}

// The simulation goes in steps of a quarter of an hour: through the weeks until
// a week begins as the one before, then through one that counts.
const (
	slotsPerHour = 4
	slot         = time.Hour / slotsPerHour
	weekSlots    = calendar.Hours * slotsPerHour
	mostWeeks    = 6
)

// Steady tells how a layout does once it is filled. Changes go each by the way
// with the fewest lanes, and among such by the fastest. Lags are not told when a
// backlog grows without end.
func Steady(ways []Way, changes []Changes) Outlook {
	s := &steady{ways: ways, queues: make([][]parcel, len(ways)), next: map[hop][]int{}, lags: map[replica.ID][]arrival{}}
	o := Outlook{Lags: map[replica.ID]Lag{}}
	for _, w := range ways {
		o.Lanes = append(o.Lanes, LaneLoad{Lane: w.Lane, Fits: w.Calendar.Weekly(w.Mbit)})
	}
	for _, c := range changes {
		var weekly int64
		for _, bytes := range c.Hours {
			weekly += bytes
		}
		for _, way := range s.route(c.At) {
			o.Lanes[way].Weekly += weekly
		}
	}
	if o.Endless() {
		return o
	}
	for week := range mostWeeks {
		before := s.waiting()
		s.counts = week == mostWeeks-1
		s.week(changes)
		if !s.counts && week > 0 && s.waiting() == before {
			s.counts = true
			s.week(changes)
			break
		}
	}
	s.counts = false
	for range mostWeeks { // what is still on its way of the week that counted
		if s.waiting() == 0 {
			break
		}
		s.week(nil)
	}
	for to, list := range s.lags {
		o.Lags[to] = lagOf(list)
	}
	return o
}

// parcel is what changed at one replica in one slot, on its way. It is measured
// when it is of the week that counts.
type parcel struct {
	origin   replica.ID
	born     int
	bytes    float64
	measured bool
}

type hop struct{ origin, at replica.ID }

type arrival struct {
	lag   time.Duration
	bytes float64
}

type steady struct {
	ways   []Way
	queues [][]parcel
	next   map[hop][]int // the ways on which an origin's changes leave a replica
	now    int
	counts bool
	lags   map[replica.ID][]arrival
}

// route finds the ways that changes of a replica take, and notes them.
func (s *steady) route(origin replica.ID) (used []int) {
	reached := map[replica.ID]bool{origin: true}
	for edge := []replica.ID{origin}; len(edge) > 0; {
		best := map[replica.ID]int{} // to each replica that is one lane further, the fastest way
		for i, w := range s.ways {
			if reached[w.To] || !slices.Contains(edge, w.From) {
				continue
			}
			if other, ok := best[w.To]; !ok || w.Mbit > s.ways[other].Mbit {
				best[w.To] = i
			}
		}
		edge = nil
		for to, way := range best {
			h := hop{origin, s.ways[way].From}
			s.next[h] = append(s.next[h], way)
			reached[to] = true
			edge, used = append(edge, to), append(used, way)
		}
	}
	return used
}

func (s *steady) waiting() (bytes int64) {
	for _, q := range s.queues {
		for _, p := range q {
			bytes += int64(p.bytes)
		}
	}
	return bytes
}

// week lets a week pass.
func (s *steady) week(changes []Changes) {
	for i := range weekSlots {
		for _, c := range changes {
			if bytes := c.Hours[i/slotsPerHour]; bytes > 0 {
				s.leave(c.At, parcel{origin: c.At, born: s.now, bytes: float64(bytes) / slotsPerHour, measured: s.counts})
			}
		}
		for w := range s.ways {
			s.carry(w, i/slotsPerHour)
		}
		s.now++
	}
}

// leave puts a parcel on the ways on.
func (s *steady) leave(at replica.ID, p parcel) {
	for _, way := range s.next[hop{p.origin, at}] {
		s.queues[way] = append(s.queues[way], p)
	}
}

// carry lets a way carry what it can in a slot.
func (s *steady) carry(way, hour int) {
	w := &s.ways[way]
	room := w.Calendar[hour].Speed(w.Mbit) * slot.Seconds()
	full := room
	for len(s.queues[way]) > 0 && room > 0 {
		p := &s.queues[way][0]
		carried := min(p.bytes, room)
		room -= carried
		part := *p
		part.bytes = carried
		if p.bytes -= carried; p.bytes <= 0 {
			s.queues[way] = s.queues[way][1:]
		}
		if part.measured {
			within := time.Duration((full - room) / full * float64(slot))
			s.lags[w.To] = append(s.lags[w.To], arrival{time.Duration(s.now-part.born)*slot + within, carried})
		}
		s.leave(w.To, part)
	}
}

func lagOf(list []arrival) Lag {
	slices.SortFunc(list, func(a, b arrival) int { return cmp.Compare(a.lag, b.lag) })
	var all float64
	for _, a := range list {
		all += a.bytes
	}
	at := func(share float64) time.Duration {
		var sum float64
		for _, a := range list {
			if sum += a.bytes; sum >= share*all {
				return a.lag
			}
		}
		return 0
	}
	return Lag{at(0.5), at(0.95)}
}
