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

// Arrivals tells when a change of a few bytes is at each replica, that one has at
// a moment: when ways are open, and how long they are. each is what a file takes
// at the ends of a way, beside its round trips. Replicas to which nothing ever
// gets are not in the answer.
func Arrivals(from replica.ID, at time.Time, ways []Way, each time.Duration) map[replica.ID]time.Time {
	there := map[replica.ID]time.Time{from: at}
	for changed := true; changed; {
		changed = false
		for _, w := range ways {
			sent, ok := there[w.From]
			if !ok {
				continue
			}
			if w.Calendar.At(sent) == calendar.Off {
				if sent = w.Calendar.Next(sent); sent.IsZero() {
					continue
				}
			}
			arrives := sent.Add(each + tripsOfOne*w.RTT)
			if known, ok := there[w.To]; !ok || arrives.Before(known) {
				there[w.To], changed = arrives, true
			}
		}
	}
	return there
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
