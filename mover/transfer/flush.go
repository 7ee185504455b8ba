package transfer

import (
	"context"
	"sync"

	"bridgespan/guard"
	"bridgespan/tree"
)

// flushes make durable what was staged: those who wait at the same time wait for one flush.
// The zero value is ready.
type flushes struct {
	mu   sync.Mutex
	turn chan struct{} // holds one while a flush is under way
	next *flushed      // whom the next flush is for; nil while nobody waits
}

// flushed is a flush that several wait for.
type flushed struct {
	done chan struct{}
	err  error
}

// Flush returns when all that was staged before is durable. One flush serves all who wait for
// it, and goes on when the first of them gives up.
func (e *Endpoint) Flush(ctx context.Context) error {
	f := &e.flushes
	f.mu.Lock()
	mine, first := f.next, f.next == nil
	if f.turn == nil {
		f.turn = make(chan struct{}, 1)
	}
	if first {
		mine = &flushed{done: make(chan struct{})}
		f.next = mine
	}
	f.mu.Unlock()
	if first {
		shared := context.WithoutCancel(ctx)
		guard.Go(func() {
			defer close(mine.done)
			f.turn <- struct{}{}
			defer func() { <-f.turn }()
			f.mu.Lock()
			f.next = nil // who comes from now on has staged something that this flush may miss
			f.mu.Unlock()
			mine.err = guard.Call(func() error { return tree.Flush(shared, e.Tree) })
		})
	}
	select {
	case <-mine.done:
		return mine.err
	case <-ctx.Done():
		return ctx.Err()
	}
}
