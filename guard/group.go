package guard

import (
	"context"
	"sync"

	"golang.org/x/sync/errgroup"
)

// Group does work side by side until one fails, as errgroup.Group does; a panic fails it
// like an error. The zero value is ready to be used.
type Group struct {
	alone   errgroup.Group
	context *errgroup.Group // used instead, when it has a context to end
}

// WithContext makes a group, and a context that ends when one of its goroutines fails or
// all have ended.
func WithContext(ctx context.Context) (*Group, context.Context) {
	group, ctx := errgroup.WithContext(ctx)
	return &Group{context: group}, ctx
}

func (g *Group) group() *errgroup.Group {
	if g.context != nil {
		return g.context
	}
	return &g.alone
}

// SetLimit bounds how many goroutines work at a time.
func (g *Group) SetLimit(n int) { g.group().SetLimit(n) }

// Go does work in a goroutine of its own, when the limit lets it.
func (g *Group) Go(work func() error) { g.group().Go(func() error { return Call(work) }) }

// TryGo is Go when the limit lets it at once; otherwise it returns false.
func (g *Group) TryGo(work func() error) bool {
	return g.group().TryGo(func() error { return Call(work) })
}

// Wait waits until all have ended, and returns the first error.
func (g *Group) Wait() error { return g.group().Wait() }

// WaitGroup waits for goroutines, as sync.WaitGroup does. The zero value is ready.
type WaitGroup struct {
	group sync.WaitGroup
	once  sync.Once
	err   error
}

// Go does work in a goroutine of its own.
func (w *WaitGroup) Go(work func()) {
	w.group.Go(func() {
		if err := Do(work); err != nil {
			w.once.Do(func() { w.err = err })
		}
	})
}

// Wait waits until all have ended, and returns the first panic as an *Error.
func (w *WaitGroup) Wait() error {
	w.group.Wait()
	return w.err
}
