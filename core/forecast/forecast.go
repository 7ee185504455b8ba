// Package forecast tells how long replication will take: when each replica has
// had its first fill, and how long changes are on their way from then on.
//
// A [Way] is a lane with what it runs over: the speed and the round trip of its
// leg, and its calendar. Ways do not take speed from each other: two that share
// a leg are to be given their shares of it.
package forecast

import (
	"time"

	"bridgespan/core/calendar"
	"bridgespan/core/replica"
)

// Way is a lane with what it runs over.
type Way struct {
	replica.Lane
	Mbit     float64 // of the leg
	RTT      time.Duration
	Calendar calendar.Week
	// Waits are the bytes that wait for it now. First fills and steady states are told without them.
	Waits int64
}

// Load is what a first fill brings to a replica.
type Load struct {
	Bytes int64
	Files int64
}

// How a file's own costs are counted: what its transfer waits for, apart from
// its bytes, in round trips; and how many files are on their way together.
const (
	tripsPerFile = 12
	sideBySide   = 32 // measured: 2,000 files in new folders took 17 ms each over 55 ms
)

// weight is what a load takes of a way, in bytes that could have been carried.
func (w *Way) weight(l Load) int64 {
	waits := float64(l.Files) * tripsPerFile * w.RTT.Seconds() / sideBySide
	return l.Bytes + int64(waits*w.Mbit*1e6/8)
}

// Hop is the last lane on the way of a change to a replica.
type Hop struct {
	At time.Time // arrival
	// By is the index of the way to it; -1 at an origin.
	By int
	// Sent is when the transfer starts: at the arrival at the other end, or when the way opens.
	Sent time.Time
}

// Arrivals forecasts when a change of a number of bytes arrives at each replica. origins has the time from which each replica with the
// change sends it. A way delays it while its calendar is closed, by its backlog, by its speed and by its round trips; each is what a
// file takes at the ends of a way besides. Replicas that it never reaches are absent.
func Arrivals(origins map[replica.ID]time.Time, ways []Way, bytes int64, each time.Duration) map[replica.ID]Hop {
	hops := map[replica.ID]Hop{}
	for id, at := range origins {
		hops[id] = Hop{At: at, By: -1, Sent: at}
	}
	for changed := true; changed; {
		changed = false
		for i := range ways {
			w := &ways[i]
			from, ok := hops[w.From]
			if !ok {
				continue
			}
			hop, ok := w.hop(from.At, bytes, each)
			if !ok {
				continue
			}
			if known, ok := hops[w.To]; !ok || hop.At.Before(known.At) {
				hop.By = i
				hops[w.To], changed = hop, true
			}
		}
	}
	return hops
}

// hop is the transfer of a change over a way that may start at a time; ok is false when the way never opens for it.
func (w *Way) hop(at time.Time, bytes int64, each time.Duration) (h Hop, ok bool) {
	if w.Calendar.At(at) == calendar.Off {
		if at = w.Calendar.Next(at); at.IsZero() {
			return h, false
		}
	}
	through := at
	if n := w.Waits + bytes; n > 0 && w.Mbit > 0 {
		if through, ok = w.Calendar.Through(at, n, w.Mbit); !ok {
			return h, false
		}
	}
	return Hop{At: through.Add(each + tripsOfOne*w.RTT), Sent: at}, true
}

// tripsOfOne is how many round trips a single file takes from end to end.
const tripsOfOne = 16

// Fill is the first fill of one replica.
type Fill struct {
	From       replica.ID // the replica that fills it
	Start, End time.Time
}

// FirstFill tells when each replica is filled, from a seed that has everything.
// loads are what each one lacks, and looks how long it takes to look at all of it,
// which begins everywhere at start and comes first. A replica fills others once it
// is filled itself. Replicas that nothing ever gets to are not in the answer.
func FirstFill(seed replica.ID, ways []Way, loads map[replica.ID]Load, looks map[replica.ID]time.Duration, start time.Time) map[replica.ID]Fill {
	known := start.Add(looks[seed])
	filled := map[replica.ID]Fill{seed: {Start: known, End: known}}
	for {
		// The replica that is filled first of all that are not yet.
		var next replica.ID
		var best Fill
		for _, w := range ways {
			from, ready := filled[w.From]
			if _, already := filled[w.To]; already || !ready {
				continue
			}
			begin := from.End
			if looked := start.Add(looks[w.To]); looked.After(begin) {
				begin = looked
			}
			end, ok := w.Calendar.Through(begin, w.weight(loads[w.To]), w.Mbit)
			if ok && (best.End.IsZero() || end.Before(best.End)) {
				next, best = w.To, Fill{From: w.From, Start: begin, End: end}
			}
		}
		if best.End.IsZero() {
			delete(filled, seed)
			return filled
		}
		filled[next] = best
	}
}
