package replication

import (
	"context"
	"sync"

	"bridgespan/guard"
)

// crew does small things side by side, by a few goroutines that stay: a new one for
// each would have to find out anew how much stack it needs. They come when there is
// something to do.
type crew struct {
	size    int
	begin   sync.Once
	tasks   chan func()
	members guard.WaitGroup
}

func newCrew(size int) *crew { return &crew{size: size, tasks: make(chan func())} }

// each does n things, and returns when all are done, with the first error: after one
// no more are begun. What is done must not wait for others that the crew is to do.
func (c *crew) each(ctx context.Context, n int, do func(ctx context.Context, i int) error) error {
	c.begin.Do(func() {
		for range c.size {
			c.members.Go(func() {
				for task := range c.tasks {
					task()
				}
			})
		}
	})
	run, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var under sync.WaitGroup
	for i := 0; i < n && run.Err() == nil; i++ {
		under.Add(1)
		c.tasks <- func() {
			defer under.Done()
			if err := guard.Call(func() error { return do(run, i) }); err != nil {
				cancel(err)
			}
		}
	}
	under.Wait()
	if run.Err() != nil {
		return context.Cause(run)
	}
	return nil
}

// dismiss lets the goroutines end, when nothing is left to be done.
func (c *crew) dismiss() {
	close(c.tasks)
	c.members.Wait()
}
