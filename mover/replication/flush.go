package replication

import (
	"context"
	"sync"

	"bridgespan/core/replica"
	"bridgespan/guard"
	"bridgespan/tree"
)

// flushes make lasting what was staged at replicas: those who wait at the same
// time wait for one flush. The zero value is ready.
type flushes struct {
	mu       sync.Mutex
	replicas map[replica.ID]*flushing
}

// flushing is what a replica is asked to flush.
type flushing struct {
	turn chan struct{} // holds one while a flush is under way
	next *flushed      // whom the next flush is for; nil while nobody waits
}

// flushed is a flush that several wait for.
type flushed struct {
	done chan struct{}
	err  error
}

// of finds what is asked of a replica. mu must be held.
func (f *flushes) of(r *Replica) *flushing {
	if f.replicas == nil {
		f.replicas = map[replica.ID]*flushing{}
	}
	if f.replicas[r.ID] == nil {
		f.replicas[r.ID] = &flushing{turn: make(chan struct{}, 1)}
	}
	return f.replicas[r.ID]
}

// flush returns when all that was staged at a replica before is lasting. It is done for all
// who wait for it, and goes on when the first of them gives up.
func (e *Engine) flush(ctx context.Context, r *Replica) error {
	e.flushes.mu.Lock()
	at := e.flushes.of(r)
	mine, first := at.next, at.next == nil
	if first {
		mine = &flushed{done: make(chan struct{})}
		at.next = mine
	}
	e.flushes.mu.Unlock()
	if first {
		lasting := context.WithoutCancel(ctx)
		guard.Go(func() {
			defer close(mine.done)
			at.turn <- struct{}{}
			defer func() { <-at.turn }()
			e.flushes.mu.Lock()
			at.next = nil // who comes from now on has staged something that this flush may miss
			e.flushes.mu.Unlock()
			mine.err = guard.Call(func() error { return tree.Flush(lasting, r.Tree) })
		})
	}
	select {
	case <-mine.done:
		return mine.err
	case <-ctx.Done():
		return ctx.Err()
	}
}
