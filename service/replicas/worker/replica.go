package worker

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"bridgespan/core/replica"
	"bridgespan/model"
	"bridgespan/mover/replication"
	"bridgespan/service/replicas/sets"
	"bridgespan/tree"
)

// replicaWorker is a replica that is worked at.
type replicaWorker struct {
	*round
	tree     tree.Tree
	engine   *replication.Replica
	look     chan struct{} // rung when somebody wants it to be looked at
	notified changedFolders
	edited   chan struct{} // rung when its settings are others
	hot      hotFolders
	// follows is true while the replica tells of changes by itself.
	follows atomic.Bool
	// folderGone is true after a folder was found gone, until the next look at all.
	folderGone atomic.Bool

	kept       string // the state that was last kept
	keptBeside string // the same without the time of its last scan
	keptAt     time.Time

	// scanRequested is when somebody last requested a scan, until its end is kept.
	scanRequested atomic.Pointer[time.Time]

	// troubled is true while there may be what could not be done at the replica.
	troubled atomic.Bool

	prefetched prefetched

	state sync.Mutex // of what follows
	model.Replica
}

// update changes how a replica is.
func (p *replicaWorker) update(change func(*model.Replica)) {
	p.state.Lock()
	defer p.state.Unlock()
	change(&p.Replica)
}

// is notes a state, and since when.
func (p *replicaWorker) is(state, trouble string) {
	p.update(func(m *model.Replica) {
		if m.State != state || m.Trouble != trouble {
			sets.Ring(p.dirty)
		}
		if m.State != state || m.Since == nil {
			at := sets.Now()
			m.Since = &at
		}
		m.State, m.Trouble = state, trouble
	})
}

func (p *replicaWorker) toBegin(paused bool) {
	switch {
	case paused:
		p.is(model.ReplicaPaused, "")
	case !p.Scanned:
		p.is(model.ReplicaLooking, "")
	default:
		p.settled()
	}
}

// settled notes what a replica is when nothing fails.
func (p *replicaWorker) settled() {
	scanned, filled := p.round.engine.State(replica.ID(p.ID))
	entries := p.round.engine.Entries(replica.ID(p.ID))
	p.update(func(m *model.Replica) {
		if filled && !m.Filled {
			m.Entries = max(m.Entries, entries)
		}
		m.Scanned, m.Filled = scanned, filled
	})
	switch {
	case !scanned:
		p.is(model.ReplicaLooking, "")
	case filled:
		p.is(model.ReplicaSteady, "")
	default:
		p.is(model.ReplicaWaiting, "")
	}
}

// nextShare is how much longer than a look the pause after it is: little after one that
// found changes, and twice as much after each one that found none.
func nextShare(last time.Duration, changed int64) time.Duration {
	if changed > 0 {
		return sets.BusyShare
	}
	return min(max(2*last, sets.BusyShare), sets.PauseShare)
}

// Where nothing has changed for a while, the least pause grows with that: very many
// replicas at which nobody works must not keep their servers, and us, busy.
const (
	restShare   = 12
	mostResting = 20 * time.Second
)

func restedPause(unchanged time.Duration) time.Duration {
	return min(max(unchanged/restShare, sets.LeastPause), mostResting)
}

// watch looks at a replica again and again until ctx ends.
func (p *replicaWorker) watch(ctx context.Context) {
	faults := 0
	var share time.Duration
	changed := time.Now()
	for {
		began := time.Now()
		p.folderGone.Store(false)
		done, err := p.round.engine.Scan(ctx, replica.ID(p.ID))
		took := time.Since(began)
		if ctx.Err() != nil {
			return
		}
		share = nextShare(share, done.Changed+done.Busy)
		if done.Changed+done.Busy > 0 {
			changed = time.Now()
		}
		pause := min(max(share*took, restedPause(time.Since(changed))), sets.MostPause)
		before, recovered := p.snapshot(), faults > 0
		if err != nil {
			faults++
			p.is(model.ReplicaFailing, p.reason(ctx, err))
			pause = min(sets.AfterFault<<min(faults-1, 7), sets.MostPause)
		} else {
			faults = 0
			p.looked(ctx, done, began, took)
		}
		now := p.snapshot()
		if recovered || err != nil || done.Changed+done.Busy > 0 || before.Scanned != now.Scanned || before.Filled != now.Filled {
			p.ringAll()
		} else {
			p.ringWaiting()
		}
		if faults > 0 {
			select {
			case <-ctx.Done():
			case <-p.look:
			case <-time.After(pause):
			}
		} else {
			p.partialScans(ctx, began.Add(took+p.rested(pause, done)), time.Now().Add(max(sets.SoonShare*took, sets.LeastPause)))
		}
		if ctx.Err() != nil {
			return
		}
	}
}

// followShare is how much longer the pauses between looks at all are while the
// replica tells of changes by itself.
const followShare = 10

// rested is the pause before the next look at all.
func (p *replicaWorker) rested(pause time.Duration, done replication.Scanned) time.Duration {
	m := p.snapshot()
	switch {
	case m.Swept && done.Busy+done.Trouble == 0:
		return m.Sweep()
	case p.follows.Load():
		return min(pause*followShare, sets.MostPause)
	}
	return pause
}

// follow looks at what changes as the replica tells, where it does, until ctx ends.
func (p *replicaWorker) follow(ctx context.Context) {
	for ctx.Err() == nil {
		err := p.round.engine.Follow(ctx, replica.ID(p.ID), func(done replication.Scanned, err error) {
			p.follows.Store(err == nil)
			if done.Changed > 0 {
				p.ringAll()
			}
		})
		p.follows.Store(false)
		if errors.Is(err, tree.ErrUnsupported) {
			return
		}
		select { // it is away: what changes meanwhile is found by the next look at all
		case <-ctx.Done():
		case <-time.After(sets.AfterFault):
		}
	}
}

// looked notes what a look found.
func (p *replicaWorker) looked(ctx context.Context, done replication.Scanned, began time.Time, took time.Duration) {
	at := sets.Now()
	p.update(func(m *model.Replica) { m.Entries, m.Looked, m.LookMs = done.Entries, &at, took.Milliseconds() })
	p.settled()
	if p.scanRequested.Load() != nil {
		sets.Ring(p.dirty)
	}
	p.keepTroubles(ctx)
	if p.Sealing != nil {
		if err := p.Estate.KeepKeyFile(ctx, p.Target()); err != nil && ctx.Err() == nil {
			slog.Warn("the key of a sealed folder could not be kept in its bucket", "folder", p.Target(), "error", err)
		}
	}
	if p.troubled.Swap(false) {
		left, err := p.DB.ForgetReplicaTroubles(ctx, replica.ID(p.ID), began.UTC())
		if err != nil || left { // what waits in a backlog to be tried again is not forgotten yet
			p.troubled.Store(true)
		}
	}
}

// ringAll rings the lanes that a replica is an end of: they may go on now.
func (p *replicaWorker) ringAll() {
	for _, w := range p.ways {
		if w.id.From == replica.ID(p.ID) || w.id.To == replica.ID(p.ID) {
			sets.Ring(w.news)
		}
	}
}

// ringWaiting rings those of its lanes in which something waits: it may have waited for a look.
func (p *replicaWorker) ringWaiting() {
	for _, w := range p.ways {
		if (w.id.From == replica.ID(p.ID) || w.id.To == replica.ID(p.ID)) && !w.empty() {
			sets.Ring(w.news)
		}
	}
}

// reason says in words why a replica cannot be worked at.
func (p *replicaWorker) reason(ctx context.Context, err error) string {
	if errors.Is(err, replication.ErrNotReplica) {
		return err.Error()
	}
	return sets.Words(p.Explain(ctx, p.Server, err))
}
