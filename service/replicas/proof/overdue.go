package proof

import (
	"context"
	"fmt"
	"sync"
	"time"

	"bridgespan/core/calendar"
	"bridgespan/core/namespace"
	"bridgespan/core/plan"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/replicas/sets"
)

// An item that waits in a backlog is overdue when it has waited for more than
// overdueFactor times as long as the lane was to take for all of its backlog, and for so
// long at least: the forecast knows the calendar, the leg and the bytes, not the scans.
const (
	overdueFactor = 3
	leastForecast = time.Minute
)

// lateness says what waits too long in the lanes of a set.
type lateness struct {
	mu   sync.Mutex // of what follows
	name string     // of the set
	set  model.ReplicaSet
	legs []namespace.Leg
	read time.Time
}

// latenessFor is how long figures of lanes are relied on.
const latenessFor = 5 * time.Second

// refresh reads the figures again when they are old; l.mu must be held.
func (l *lateness) refresh(ctx context.Context, db *records.DB) error {
	if time.Since(l.read) < latenessFor {
		return nil
	}
	set, err := db.ReplicaSet(ctx, l.name)
	if err != nil {
		return err
	}
	legs, err := db.Legs(ctx)
	if err != nil {
		return err
	}
	l.set, l.legs, l.read = set, legs, time.Now()
	return nil
}

// check says why an item that waits is overdue; "" when it is not, or its lane is closed
// by hand.
func (l *lateness) check(ctx context.Context, db *records.DB, w records.Waiting, at time.Time) string {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.refresh(ctx, db) != nil { // what cannot be told is not overdue
		return ""
	}
	return l.overdue(w, at)
}

// overdue is check with figures that are at hand.
func (l *lateness) overdue(w records.Waiting, at time.Time) string {
	for i := range l.set.Lanes {
		lane := &l.set.Lanes[i]
		if lane.FromID != int64(w.Lane.From) || lane.ToID != int64(w.Lane.To) {
			continue
		}
		forecast, ok := l.forecast(lane, w.Since)
		waited := at.Sub(w.Since)
		if !ok || l.set.Paused || lane.Closed || waited <= overdueFactor*forecast {
			return ""
		}
		return fmt.Sprintf("overdue: in the backlog of %s to %s for %s, forecast %s", lane.From, lane.To, sets.Duration(waited), sets.Duration(forecast))
	}
	return ""
}

// forecast is how long a lane was to take for its backlog, from a moment on.
func (l *lateness) forecast(lane *model.Lane, since time.Time) (time.Duration, bool) {
	week, err := calendar.Parse("calendar", sets.OrText(lane.Calendar, l.set.Calendar))
	if err != nil { // it was checked when it was set
		return 0, false
	}
	var from, to model.Replica
	for _, r := range l.set.Replicas {
		switch r.ID {
		case lane.FromID:
			from = r
		case lane.ToID:
			to = r
		}
	}
	mbit := plan.Between(l.legs, from.Site, to.Site).Mbit
	if mbit == 0 {
		mbit = sets.UnknownMbit
	}
	done, ok := week.Through(since, lane.Backlog.Bytes, mbit)
	if !ok {
		return 0, false
	}
	looks := time.Duration(from.LookMs+to.LookMs) * time.Millisecond
	return max(done.Sub(since), leastForecast) + looks, true
}
