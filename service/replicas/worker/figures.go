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

// keepFigures keeps how replicas and lanes are, and tells whoever shows them.
func (r *round) keepFigures(ctx context.Context) {
	news := false
	// Replicas as they were before backlogs are counted: one that is told to be
	// filled must not have what is left of that counted before it was.
	before := make([]model.Replica, len(r.places))
	for i, p := range r.places {
		p.lookAtIntake()
		before[i] = p.snapshot()
	}
	for _, w := range r.ways {
		news = w.keep(ctx) || news
	}
	for i, p := range r.places {
		news = p.keep(ctx, before[i]) || news
	}
	r.keepTroubles(ctx)
	if news {
		_ = r.DB.Tell(ctx, sets.Topic, r.set.Name, sets.Now())
		r.Workers.Changed()
	}
}

// lookAtIntake notes what is on its way in, and whether something waits for room.
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

// scansEvery is how often the time of the last scan is kept, when nothing else has changed
// and nobody has requested the scan.
const scansEvery = time.Minute

// keep keeps how a replica was, when that is not as it was last kept.
func (p *replicaWorker) keep(ctx context.Context, m model.Replica) bool {
	state := sets.JsonText(m)
	if state == p.kept {
		return false
	}
	scan := m
	scan.Looked, scan.LookMs = nil, 0
	beside, requested := sets.JsonText(scan), p.scanRequested.Load()
	if requested == nil && beside == p.keptBeside && time.Since(p.keptAt) < scansEvery || p.DB.StoreReplica(ctx, m) != nil {
		return false
	}
	if requested != nil && m.Looked != nil && m.Looked.Add(-time.Duration(m.LookMs)*time.Millisecond).After(*requested) {
		p.scanRequested.CompareAndSwap(requested, nil)
	}
	p.kept, p.keptBeside, p.keptAt = state, beside, time.Now()
	return true
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
	countEmptyEvery = time.Minute
)

// keep keeps how a lane is, when it changed.
func (w *laneWorker) keep(ctx context.Context) bool {
	w.count(ctx)
	w.watch(time.Now())
	w.state.Lock()
	if since := time.Since(w.beaten); since > beat/2 {
		speed := float64(w.passed) / since.Seconds()
		if w.Rate = (w.Rate + speed) / 2; speed == 0 && w.Rate < 1024 {
			w.Rate = 0
		}
		w.passed, w.beaten = 0, time.Now()
	}
	l, more := w.Lane, w.more
	same := sets.JsonText(l) == sets.JsonText(w.kept) && more == model.Carried{}
	w.more = model.Carried{}
	w.state.Unlock()
	if same {
		return false
	}
	if err := w.DB.StoreLane(ctx, l, more); err != nil {
		w.carried(more)
		return false
	}
	w.state.Lock()
	w.kept = l
	w.state.Unlock()
	return true
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
