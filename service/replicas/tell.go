package replicas

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"bridgespan/core/calendar"
	"bridgespan/core/namespace"
	"bridgespan/core/plan"
	"bridgespan/model"
	"bridgespan/service/replicas/sets"
)

// tell adds to sets what follows from their figures: words, and when backlogs
// will be empty.
func (s *Service) tell(ctx context.Context, sets []model.ReplicaSet) error {
	legs, err := s.DB.Legs(ctx)
	if err != nil {
		return err
	}
	for i := range sets {
		tellSet(&sets[i], legs, time.Now())
		if err := s.LastVerified(ctx, &sets[i]); err != nil {
			return err
		}
		if err := s.Foretold(ctx, &sets[i]); err != nil {
			return err
		}
		if err := s.alerts(ctx, &sets[i], time.Now()); err != nil {
			return err
		}
	}
	return nil
}

func tellSet(set *model.ReplicaSet, legs []namespace.Leg, at time.Time) {
	site := map[int64]string{}
	for i := range set.Replicas {
		r := &set.Replicas[i]
		site[r.ID] = r.Site
		if r.Settings != set.Version {
			r.PickedUp = nil
		}
		r.Words = replicaWords(set, r)
	}
	for i := range set.Lanes {
		route := plan.Between(legs, site[set.Lanes[i].FromID], site[set.Lanes[i].ToID])
		tellLane(set, &set.Lanes[i], route.Mbit, at)
	}
	set.State, set.Summary = summary(set)
}

func tellLane(set *model.ReplicaSet, l *model.Lane, leg float64, at time.Time) {
	week, err := calendar.Parse("calendar", sets.OrText(l.Calendar, set.Calendar))
	if err != nil { // it was checked when it was set
		return
	}
	rate := week.At(at)
	if l.OpenUntil != nil && at.Before(*l.OpenUntil) {
		rate = calendar.Full
	} else {
		l.OpenUntil = nil
	}
	switch {
	case rate > 0 && (leg == 0 || float64(rate) < leg):
		l.Mbit = float64(rate)
	case rate != calendar.Off:
		l.Mbit = leg
	}
	if l.Backlog.Files > 0 && !l.Closed && !set.Paused && l.State != model.LaneStalled {
		way := leg
		if way == 0 {
			way = sets.UnknownMbit
		}
		if done, ok := week.Through(at, l.Backlog.Bytes, way); ok {
			l.EmptyAt = &done
		}
	}
	l.Words = laneWords(l, at)
}

func replicaWords(set *model.ReplicaSet, r *model.Replica) string {
	switch r.State {
	case model.ReplicaNew:
		return "not picked up yet"
	case model.ReplicaLooking:
		return "initial scan in progress"
	case model.ReplicaWaiting:
		for _, l := range set.Lanes {
			if l.ToID == r.ID && l.State == model.LaneCarrying {
				return "first fill in progress"
			}
		}
		return "waiting for the first fill"
	case model.ReplicaPaused:
		return "paused"
	case model.ReplicaFailing:
		return r.Trouble
	}
	words := sets.Count(r.Entries, "item", "items")
	if w := r.Removals; w != nil {
		words += fmt.Sprintf("; %s missing, waiting for a decision", sets.Count(w.Files, "file", "files"))
	}
	if r.Troubles > 0 {
		words += fmt.Sprintf("; %s failed", sets.Count(r.Troubles, "item", "items"))
	}
	if r.Repairs > 0 {
		words += fmt.Sprintf("; %s repaired", sets.Count(r.Repairs, "record", "records"))
	}
	return words
}

func laneWords(l *model.Lane, at time.Time) string {
	waiting := sets.Count(l.Backlog.Files, "path waits", "paths wait")
	if l.Unqueued {
		return "new; what it has to carry is being queued"
	}
	switch l.State {
	case model.LaneNew:
		return "not picked up yet"
	case model.LaneIdle:
		if l.Backlog.Files > 0 {
			return waiting + " to be tried again"
		}
		return "nothing waits"
	case model.LaneCarrying:
		return fmt.Sprintf("carries %s/s; %s", humanize.IBytes(uint64(l.Rate)), waiting)
	case model.LaneStalled:
		return fmt.Sprintf("no progress for %s; %s", stalledFor(l, at), waiting)
	case model.LaneNotYet:
		return "its ends are not ready yet"
	case model.LanePaused:
		return "paused; " + waiting
	case model.LaneFailing:
		return l.Trouble
	}
	switch {
	case l.Closed:
		return "closed by hand; " + waiting
	case l.Until != nil:
		return fmt.Sprintf("closed until %s; %s", l.Until.Local().Format("Mon 15:04"), waiting)
	}
	return "its calendar never opens; " + waiting
}

// stalledFor is how long a lane has made no progress, in words.
func stalledFor(l *model.Lane, at time.Time) string {
	if l.Stalled == nil {
		return "a while"
	}
	return sets.Duration(at.Sub(*l.Stalled))
}

// summary says how a set is, in a word and in a sentence.
func summary(set *model.ReplicaSet) (state, words string) {
	if set.Paused && slices.ContainsFunc(set.Replicas, func(r model.Replica) bool { return r.Settings != set.Version }) {
		return model.SetPausing, "About to pause: what is under way is being ended."
	}
	if set.Paused {
		return model.SetPaused, "Paused: nothing is looked at or carried."
	}
	var failing, unfilled, stalled []string
	var troubles, files, bytes int64
	fresh := ""
	var removed []string
	for _, r := range set.Replicas {
		if w := r.Removals; w != nil {
			removed = append(removed, fmt.Sprintf("%s at %s", sets.Count(w.Files, "file", "files"), r.Name))
		}
		if r.State == model.ReplicaFailing {
			failing = append(failing, r.Name)
		} else if !r.Filled {
			unfilled = append(unfilled, r.Name)
		}
		troubles += r.Troubles
	}
	for _, l := range set.Lanes {
		files, bytes = files+l.Backlog.Files, bytes+l.Backlog.Bytes
		if l.State == model.LaneStalled {
			stalled = append(stalled, l.From+" to "+l.To)
		}
		if l.Unqueued {
			fresh = l.From + " to " + l.To
		}
	}
	waits := fmt.Sprintf("%s (%s) in the backlogs", sets.Count(files, "path waits", "paths wait"), humanize.IBytes(uint64(bytes)))
	switch {
	case len(failing) > 0:
		return model.SetFailing, fmt.Sprintf("Cannot be worked at: %s; %s.", strings.Join(failing, ", "), waits)
	case len(stalled) > 0:
		return model.SetStalled, fmt.Sprintf("No progress: %s; %s.", strings.Join(stalled, ", "), waits)
	case len(unfilled) > 0:
		return model.SetFilling, fmt.Sprintf("First fill under way: %s still to be filled; %s.", strings.Join(unfilled, ", "), waits)
	case len(removed) > 0:
		return model.SetBehind, fmt.Sprintf("Pending removals: %s.", strings.Join(removed, ", "))
	case troubles > 0:
		return model.SetBehind, fmt.Sprintf("%s cannot be carried now and %s tried again; %s.", sets.Count(troubles, "path", "paths"), english.PluralWord(int(troubles), "is", "are"), waits)
	case fresh != "":
		return model.SetBehind, fmt.Sprintf("The lane %s is new: what it has to carry is being queued; %s.", fresh, waits)
	case files > 0:
		return model.SetBehind, fmt.Sprintf("%s.", strings.ToUpper(waits[:1])+waits[1:])
	}
	return model.SetSteady, fmt.Sprintf("All %d replicas hold the same, as far as is known.", len(set.Replicas))
}
