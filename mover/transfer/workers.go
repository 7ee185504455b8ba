package transfer

import (
	"context"
	"sync"

	"bridgespan/guard"
)

// WorkerPool does small things side by side with a few goroutines that stay: a new one for
// each would have to grow its stack anew. They start with the first task.
type WorkerPool struct {
	size    int
	begin   sync.Once
	tasks   chan func()
	workers guard.WaitGroup
}

// NewWorkerPool makes a pool of so many goroutines. The caller must close it.
func NewWorkerPool(size int) *WorkerPool {
	return &WorkerPool{size: size, tasks: make(chan func())}
}

// Each does n things, and returns when all are done, with the first error: after one no more
// are begun. What is done must not wait for others that the pool is to do.
func (w *WorkerPool) Each(ctx context.Context, n int, do func(ctx context.Context, i int) error) error {
	w.begin.Do(func() {
		for range w.size {
			w.workers.Go(func() {
				for task := range w.tasks {
					task()
				}
			})
		}
	})
	gctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var open sync.WaitGroup
	for i := 0; i < n && gctx.Err() == nil; i++ {
		open.Add(1)
		w.tasks <- func() {
			defer open.Done()
			if err := guard.Call(func() error { return do(gctx, i) }); err != nil {
				cancel(err)
			}
		}
	}
	open.Wait()
	if gctx.Err() != nil {
		return context.Cause(gctx)
	}
	return nil
}

// Close lets the goroutines end, when nothing is left to be done.
func (w *WorkerPool) Close() {
	close(w.tasks)
	w.workers.Wait()
}
