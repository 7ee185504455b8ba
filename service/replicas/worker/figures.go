package worker

import (
	"context"
	"errors"
	"log/slog"
	"time"

	"bridgespan/core/calendar"
	"bridgespan/core/replica"
	"bridgespan/model"
	"bridgespan/mover/replication"
	"bridgespan/records"
	"bridgespan/service/replicas/sets"
	"bridgespan/tree"
)

func (p *replicaWorker) snapshot() model.Replica {
	p.state.Lock()
	defer p.state.Unlock()
	return p.Replica
}

func (w *laneWorker) snapshot() model.Lane {
	w.state.Lock()
	defer w.state.Unlock()
	return w.Lane
}

// figure is a changed value of a replica or a lane that is to be stored.
type figure struct {
	store func(ctx context.Context, tx *records.Tx) error
	ended func(kept bool)
}

// keepFigures stores all changed values of replicas and lanes in one transaction, and notifies listeners.
func (r *round) keepFigures(ctx context.Context) {
	// Replicas are read before backlogs are counted: a replica that is reported as
	// filled must not have a backlog that was counted earlier.
	before := make([]model.Replica, len(r.places))
	due := false
	for i, p := range r.places {
		p.lookAtIntake()
		before[i] = p.snapshot()
		due = p.due(before[i]) || due
	}
	var list []figure
	for _, w := range r.ways {
		w.count(ctx)
		list = append(list, w.figures()...)
	}
	for i, p := range r.places {
		if due {
			list = append(list, p.figures(before[i])...)
		}
	}
	r.keepTroubles(ctx)
	if len(list) == 0 {
		return
	}
	err := r.DB.Change(ctx, func(tx *records.Tx) error {
		for _, f := range list {
			if err := f.store(ctx, tx); err != nil {
				return err
			}
		}
		return tx.Tell(ctx, sets.Topic, r.set.Name, sets.Now())
	})
	for _, f := range list {
		f.ended(err == nil)
	}
	if err == nil {
		r.Workers.Changed()
	}
}

// lookAtIntake records the size of the intake, and whether transfers wait for space.
func (p *replicaWorker) lookAtIntake() {
	used, since := p.round.engine.Intake(replica.ID(p.ID))
	var full *time.Time
	if !since.IsZero() {
		full = &since
	}
	p.state.Lock()
	defer p.state.Unlock()
	p.IntakeUsed, p.IntakeFull = used, full
}

// scansEvery is how often the time of the last scan is stored when nothing else has changed and
// nobody has requested the scan.
const scansEvery = time.Minute

// due reports whether a replica is to be stored: something other than the scan time has changed, or the scan
// time was stored long ago. The other replicas of the set are stored with it.
func (p *replicaWorker) due(m model.Replica) bool {
	if sets.JsonText(m) == p.kept {
		return false
	}
	return p.scanRequested.Load() != nil || withoutScan(m) != p.keptBeside || time.Since(p.keptAt) >= scansEvery
}

// withoutScan is the text of a replica without the time of its last scan.
func withoutScan(m model.Replica) string {
	m.Looked, m.LookMs = nil, 0
	return sets.JsonText(m)
}

// figures returns the values of a replica that have changed since they were stored.
func (p *replicaWorker) figures(m model.Replica) []figure {
	state, requested := sets.JsonText(m), p.scanRequested.Load()
	if state == p.kept {
		return nil
	}
	return []figure{{
		store: func(ctx context.Context, tx *records.Tx) error { return tx.StoreReplica(ctx, m) },
		ended: func(kept bool) {
			if !kept {
				return
			}
			if requested != nil && m.Looked != nil && m.Looked.Add(-time.Duration(m.LookMs)*time.Millisecond).After(*requested) {
				p.scanRequested.CompareAndSwap(requested, nil)
			}
			p.kept, p.keptBeside, p.keptAt = state, withoutScan(m), time.Now()
		},
	}}
}

// keepTroubles keeps what could not be done since the last time.
func (r *round) keepTroubles(ctx context.Context) {
	r.mu.Lock()
	list := r.troubles
	r.troubles = map[[2]string]replication.Trouble{}
	r.mu.Unlock()
	holders := holders{}
	for _, t := range list {
		for _, p := range r.places {
			if p.Name != t.Replica {
				continue
			}
			noted := model.ReplicaTrouble{Path: t.Path, Problem: sets.Words(t.Err), Last: sets.Now(), InUse: errors.Is(t.Err, tree.ErrInUse)}
			if noted.InUse {
				noted.Holder = holders.of(ctx, r, t.Path)
			}
			p.troubled.Store(true)
			if err := r.DB.NoteReplicaTrouble(ctx, replica.ID(p.ID), tree.Key(t.Path, false), noted); err != nil {
				slog.Warn("what could not be done at a replica is not kept", "replica", t.Replica, "path", t.Path, "error", err)
			}
		}
	}
}

// A backlog is counted so often that it takes a twentieth of the time at most;
// one that is told to be empty, as soon as that may not be so any more.
const (
	countEvery = 2 * time.Second
	countShare = 20
	// countEmptyEvery is for an empty backlog.
	countEmptyEvery = 5 * time.Minute
)

// figures are what has changed of a lane since it was kept.
func (w *laneWorker) figures() []figure {
	w.watch(time.Now())
	w.state.Lock()
	defer w.state.Unlock()
	if since := time.Since(w.beaten); since > beat/2 {
		speed := float64(w.passed) / since.Seconds()
		if w.Rate = (w.Rate + speed) / 2; speed == 0 && w.Rate < 1024 {
			w.Rate = 0
		}
		w.passed, w.beaten = 0, time.Now()
	}
	l, more := w.Lane, w.more
	if sets.JsonText(l) == sets.JsonText(w.kept) && more == (model.Carried{}) {
		return nil
	}
	w.more = model.Carried{}
	return []figure{{
		store: func(ctx context.Context, tx *records.Tx) error { return tx.StoreLane(ctx, l, more) },
		ended: func(kept bool) {
			if !kept {
				w.carried(more)
				return
			}
			w.state.Lock()
			defer w.state.Unlock()
			w.kept = l
		},
	}}
}

// count counts the backlog, when it is time to.
func (w *laneWorker) count(ctx context.Context) {
	w.state.Lock()
	empty := w.Backlog.Files == 0
	outdated := w.fuller && empty
	w.fuller = false
	w.state.Unlock()
	every := max(countEvery, countShare*w.took)
	if empty { // only what is queued changes that, of which we are told
		every = max(every, countEmptyEvery)
	}
	if !outdated && time.Since(w.counted) < every {
		return
	}
	began := time.Now()
	b, err := w.DB.Backlog(ctx, w.id)
	w.state.Lock()
	defer w.state.Unlock()
	w.counted, w.took = time.Now(), time.Since(began)
	if err == nil {
		w.Backlog = b
	} else {
		w.fuller = w.fuller || outdated
	}
}

// watch notes whether the lane makes progress. One that is closed, or whose ends fail,
// has none to make.
func (w *laneWorker) watch(at time.Time) {
	stall := w.engine.Stalled(w.id)
	rate, _ := w.open(at)
	w.state.Lock()
	defer w.state.Unlock()
	switch atWork := w.State == model.LaneCarrying || w.State == model.LaneIdle || w.State == model.LaneStalled; {
	case !stall.Since.IsZero() && atWork && rate != calendar.Off:
		since := stall.Since.UTC()
		w.State, w.Stalled, w.Trouble = model.LaneStalled, &since, stallWords(stall)
	case w.State == model.LaneStalled:
		w.State, w.Stalled, w.Trouble = model.LaneCarrying, nil, ""
	default:
		w.Stalled = nil
	}
}

// stallWords say what a lane without progress is at work on.
func stallWords(s replication.Stall) string {
	tried := sets.Count(int64(s.Waiting), "item was tried in vain", "items were tried in vain")
	if s.Path == "" {
		return tried
	}
	return tried + "; at work on " + s.Path
}

func troubleAt(of, path string, err error) replication.Trouble {
	return replication.Trouble{Replica: of, Path: path, Err: err}
}
