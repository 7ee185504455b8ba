package worker

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"bridgespan/core/calendar"
	"bridgespan/core/replica"
	"bridgespan/model"
	"bridgespan/mover/gate"
	"bridgespan/service/replicas/sets"
)

// laneWorker is a lane that is worked on.
type laneWorker struct {
	*round
	came    atomic.Int64 // files that it has carried since it began
	id      replica.Lane
	news    chan struct{} // rung when there is something to carry, or to decide anew
	limiter *rate.Limiter

	state sync.Mutex // of what follows
	model.Lane
	week    calendar.Week
	passed  int64         // bytes since the last beat
	more    model.Carried // since the last beat
	fuller  bool          // something was queued since the backlog was last counted
	counted time.Time     // when the backlog was last counted
	took    time.Duration // how long that took
	beaten  time.Time     // when the rate was last told
	kept    model.Lane    // as it was last kept
}

func newLaneWorker(r *round, l model.Lane) *laneWorker {
	w := &laneWorker{round: r, id: replica.Lane{From: replica.ID(l.FromID), To: replica.ID(l.ToID)}, news: make(chan struct{}, 1), limiter: rate.NewLimiter(rate.Inf, gate.Burst), Lane: l, beaten: time.Now()}
	w.takeOver(l, r.set.Calendar)
	return w
}

// takeOver takes over how a lane is opened and closed.
func (w *laneWorker) takeOver(l model.Lane, usual string) {
	week, err := calendar.Parse("calendar", sets.OrText(l.Calendar, usual))
	w.state.Lock()
	w.Calendar, w.Closed, w.OpenUntil = l.Calendar, l.Closed, l.OpenUntil
	if err == nil {
		w.week = week
	}
	w.state.Unlock()
	sets.Ring(w.news)
}

// queued notes that something was put into the backlog.
func (w *laneWorker) queued() {
	w.state.Lock()
	w.fuller = true
	w.state.Unlock()
	sets.Ring(w.dirty)
	sets.Ring(w.news)
}

// open tells how fast a lane may carry now, and until when that is so; the zero
// time is for good.
func (w *laneWorker) open(at time.Time) (calendar.Rate, time.Time) {
	w.state.Lock()
	defer w.state.Unlock()
	switch {
	case w.Closed:
		return calendar.Off, time.Time{}
	case w.OpenUntil != nil && at.Before(*w.OpenUntil):
		return calendar.Full, *w.OpenUntil
	}
	return w.week.At(at), w.week.Next(at)
}

// is notes a state.
func (w *laneWorker) is(state, trouble string, until time.Time) {
	w.state.Lock()
	defer w.state.Unlock()
	if w.State != state || w.Trouble != trouble {
		sets.Ring(w.dirty)
	}
	w.State, w.Trouble, w.Until = state, trouble, nil
	if !until.IsZero() {
		u := until.UTC()
		w.Until = &u
	}
}

// How many paths are carried at a time: as many as take about so long.
const (
	leastLimit = 16
	mostLimit  = 10_000
	limitTakes = 3 * time.Second
	leastRetry = time.Second
	retryAfter = 5 * time.Second
	idleMost   = 15 * time.Second
	emptyMost  = 5 * time.Minute // news of what is queued ends it
)

// carry works a lane off again and again until ctx ends.
func (w *laneWorker) carry(ctx context.Context) {
	limit, faults := 64, 0
	for ctx.Err() == nil {
		speed, until := w.open(time.Now())
		if speed == calendar.Off {
			w.is(model.LaneClosed, "", until)
			w.wait(ctx, until, idleMost)
			continue
		}
		gate.SetLimit(w.limiter, speed)
		if scanned, filled := w.ready(); !scanned || !filled {
			w.is(model.LaneNotYet, "", time.Time{})
			w.wait(ctx, until, idleMost)
			continue
		}
		began := time.Now()
		done, err := w.engine.Carry(ctx, w.id, limit)
		w.carried(model.Carried{Files: int64(done.Files), Bytes: done.Bytes - done.Spared, Spared: done.Spared, Conflicts: int64(done.Conflicts)})
		if ctx.Err() != nil {
			return
		}
		w.arrived()
		switch {
		case err != nil:
			faults++
			w.is(model.LaneFailing, w.reason(ctx, err), time.Time{})
			w.wait(ctx, until, retryAfter<<min(faults, 4))
		case done.Done == 0:
			faults = 0
			pause := idleMost
			switch {
			case done.Postponed > done.Failed:
				pause = max(done.NextTry, leastRetry)
			case w.empty():
				pause = emptyMost
			}
			w.idle()
			w.wait(ctx, until, pause)
		default:
			faults = 0
			w.is(model.LaneCarrying, "", time.Time{})
			limit = next(limit, done.Done+done.Postponed, time.Since(began))
		}
	}
}

// idle notes that a lane has nothing to carry now. An edge at its end may have something to fetch or to offload then.
func (w *laneWorker) idle() {
	was := w.snapshot().State
	w.is(model.LaneIdle, "", time.Time{})
	if was != model.LaneCarrying {
		return
	}
	for _, p := range w.places {
		if replica.ID(p.ID) == w.id.To {
			sets.Ring(p.edited)
		}
	}
}

// next is how many paths to carry the next time. What is carried is often less than
// might be: folders are carried as wholes.
func next(limit, done int, took time.Duration) int {
	switch {
	case took > 2*limitTakes:
		return max(limit/2, leastLimit)
	case took < limitTakes && 2*done >= limit:
		return min(2*limit, mostLimit)
	}
	return limit
}

// wait waits for news, at most so long, and not beyond until.
func (w *laneWorker) wait(ctx context.Context, until time.Time, most time.Duration) {
	if left := time.Until(until); !until.IsZero() && left < most {
		most = max(left, 0)
	}
	select {
	case <-ctx.Done():
	case <-w.news:
	case <-time.After(most):
	}
}

// ready reports whether the receiver was looked at, and the sender is filled.
func (w *laneWorker) ready() (scanned, filled bool) {
	scanned, _ = w.engine.State(w.id.To)
	_, filled = w.engine.State(w.id.From)
	return scanned, filled
}

// arrived notes that the receiver may be filled now.
func (w *laneWorker) arrived() {
	for _, p := range w.places {
		if replica.ID(p.ID) != w.id.To {
			continue
		}
		if _, filled := w.engine.State(w.id.To); filled && !p.snapshot().Filled {
			p.settled()
			p.ringAll()
		}
	}
}

// empty reports whether nothing waits, as far as was counted.
func (w *laneWorker) empty() bool {
	w.state.Lock()
	defer w.state.Unlock()
	return w.Backlog.Files == 0 && !w.fuller && !w.counted.IsZero()
}

func (w *laneWorker) carried(more model.Carried) {
	w.came.Add(more.Files)
	w.state.Lock()
	defer w.state.Unlock()
	w.more.Files += more.Files
	w.more.Bytes += more.Bytes
	w.more.Spared += more.Spared
	w.more.Conflicts += more.Conflicts
	if w.more != (model.Carried{}) {
		w.filling.Store(true)
		sets.Ring(w.dirty)
	}
}

// pace lets bytes of a lane pass when its calendar allows.
func (r *round) pace(ctx context.Context, lane replica.Lane, bytes int) error {
	for _, w := range r.ways {
		if w.id == lane {
			return w.pass(ctx, bytes)
		}
	}
	return nil
}

// pass waits until so many bytes may pass; also while the lane is closed.
func (w *laneWorker) pass(ctx context.Context, bytes int) error {
	if err := w.opened(ctx); err != nil {
		return err
	}
	w.state.Lock()
	w.passed += int64(bytes)
	if w.State != model.LaneCarrying && w.State != model.LaneStalled {
		w.State, w.Trouble, w.Until = model.LaneCarrying, "", nil
	}
	w.state.Unlock()
	return gate.Through(ctx, w.limiter, bytes)
}

// opened waits until the lane is open, at the speed of its calendar.
func (w *laneWorker) opened(ctx context.Context) error {
	for {
		speed, until := w.open(time.Now())
		if speed != calendar.Off {
			gate.SetLimit(w.limiter, speed)
			return nil
		}
		w.is(model.LaneClosed, "", until)
		left := time.Second
		if !until.IsZero() {
			left = min(left, max(time.Until(until), time.Millisecond))
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(left):
		}
	}
}

// share lets an edge fetch so many bytes when the lane that leads there is open, within its speed. A way without a lane
// bounds nothing.
func (r *round) share(ctx context.Context, to *replicaWorker, bytes int64) error {
	for _, w := range r.ways {
		if w.id != (replica.Lane{From: replica.ID(r.places[0].ID), To: replica.ID(to.ID)}) {
			continue
		}
		if err := w.opened(ctx); err != nil {
			return err
		}
		return gate.Through(ctx, w.limiter, int(bytes))
	}
	return nil
}

// reason says in words why a lane fails.
func (w *laneWorker) reason(ctx context.Context, err error) string {
	for _, p := range w.places {
		if s := p.snapshot(); s.State == model.ReplicaFailing && (replica.ID(s.ID) == w.id.From || replica.ID(s.ID) == w.id.To) {
			return s.Name + ": " + s.Trouble
		}
	}
	return sets.Words(err)
}
