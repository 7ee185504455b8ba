package work

import (
	"cmp"
	"context"
	"log/slog"
	"time"

	"bridgespan/guard"
)

// Keep does a piece of work again and again until ctx ends, in one instance at a time:
// do does it once, and says how long to wait for the next time. While another instance
// has the work, this one waits to take it over.
func (s *Leases) Keep(ctx context.Context, name string, do func(ctx context.Context) time.Duration) {
	for ctx.Err() == nil {
		l, err := s.Take(ctx, name)
		if err != nil && ctx.Err() == nil {
			slog.Warn("work cannot be taken up", "lease", name, "error", err)
		}
		if l != nil {
			l.keep(ctx, do)
			l.Release()
		}
		wait(ctx, cmp.Or(s.Length, Usual)/4)
	}
}

// keep does the work until the lease is lost or ctx ends.
func (l *Lease) keep(ctx context.Context, do func(ctx context.Context) time.Duration) {
	ctx, stop := l.Context(ctx)
	defer stop(nil)
	for ctx.Err() == nil {
		pause := l.length / 4
		if err := guard.Do(func() { pause = do(ctx) }); err != nil {
			slog.Warn("work begins anew", "lease", l.kept.Name, "error", err)
		}
		wait(ctx, pause)
	}
}

// Await takes a lease as soon as nobody has it.
func (s *Leases) Await(ctx context.Context, name string) (*Lease, error) {
	for {
		l, err := s.Take(ctx, name)
		if l != nil || err != nil {
			return l, err
		}
		wait(ctx, askEvery)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
	}
}

// askEvery is how often a lease is asked for that somebody will release soon.
const askEvery = 100 * time.Millisecond

func wait(ctx context.Context, d time.Duration) {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
	case <-t.C:
	}
}
