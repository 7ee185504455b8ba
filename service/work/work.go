// Package work lets one instance of the service at a time do a piece of work.
//
// Who does it holds a lease in the records. The lease is renewed on a clock of its own,
// whatever the work is doing. What the work writes with [Lease.Context] is refused once
// another instance has taken the work over; before it changes something on a file server,
// it asks [Lease.Check]. So an instance that stood still for a minute, or whose
// database did, cannot carry on beside the one that has taken its place.
package work

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"sync/atomic"
	"time"

	"bridgespan/guard"
	"bridgespan/records"
)

// Usual is for how long a lease is taken when nothing else is said. It outlives several
// attempts to renew it: a pause of the database does not hand the work over.
const Usual = 20 * time.Second

// Leases takes leases in the records for one instance of the service.
type Leases struct {
	DB     *records.DB
	Holder string        // the instance
	Length time.Duration // 0 is Usual
}

// ErrLost is the cause of the end of a lease's context when it ran out before it could be
// renewed, or was taken over.
var ErrLost = errors.New("the lease of the work was lost")

// Lease is the right to do a piece of work, until it is released or lost.
type Lease struct {
	db        *records.DB
	kept      records.Lease
	length    time.Duration
	requested atomic.Pointer[time.Time] // when the lease was last requested with success; nil once it was taken over
	held      context.Context
	lose      context.CancelCauseFunc
	over      context.CancelFunc
	ended     chan struct{}
}

// Take takes the lease of a name; it returns nil when somebody else has it. The caller
// must release it.
func (s *Leases) Take(ctx context.Context, name string) (*Lease, error) {
	length := cmp.Or(s.Length, Usual)
	requested := time.Now()
	kept, ok, err := s.DB.Acquire(ctx, name, s.Holder, length)
	if err != nil || !ok {
		return nil, err
	}
	l := &Lease{db: s.DB, kept: kept, length: length, ended: make(chan struct{})}
	l.requested.Store(&requested)
	lasting := context.WithoutCancel(ctx)
	l.held, l.lose = context.WithCancelCause(lasting)
	renewing, over := context.WithCancel(lasting)
	l.over = over
	guard.Go(func() {
		defer close(l.ended)
		if err := guard.Do(func() { l.renew(renewing) }); err != nil {
			l.lose(ErrLost) // nobody renews it any more
		}
	})
	return l, nil
}

// Context returns a copy of ctx that ends with the lease, too, and with which nothing is
// written once the lease was taken over.
func (l *Lease) Context(ctx context.Context) (context.Context, context.CancelCauseFunc) {
	work, stop := context.WithCancelCause(records.Under(ctx, l.kept))
	unhook := context.AfterFunc(l.held, guard.Func(func() { stop(context.Cause(l.held)) }))
	return work, func(cause error) { unhook(); stop(cause) }
}

// Check returns ErrLost unless nobody else can have the lease by now. It asks the clock
// alone, and may be called as often as something is changed.
func (l *Lease) Check() error {
	if l.held.Err() != nil || l.age() > l.length*9/10 {
		return ErrLost
	}
	return nil
}

// age is how long ago the lease was requested. A clock that stands still while the machine
// sleeps, and one that is set back, each show less than went by.
func (l *Lease) age() time.Duration {
	requested := l.requested.Load()
	if requested == nil {
		return l.length
	}
	now := time.Now()
	return max(now.Sub(*requested), now.Round(0).Sub(requested.Round(0)))
}

// Release gives the lease back, after the work has ended.
func (l *Lease) Release() {
	l.over()
	<-l.ended
	l.lose(ErrLost)
	ctx, cancel := context.WithTimeout(context.WithoutCancel(l.held), l.length)
	defer cancel()
	if err := l.db.Release(ctx, l.kept); err != nil {
		slog.Warn("a lease runs out by itself", "lease", l.kept.Name, "error", err)
	}
}

// renew renews the lease until ctx ends, or it is lost.
func (l *Lease) renew(ctx context.Context) {
	tick := time.NewTicker(l.length / 3)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if err := l.renewOnce(ctx); err != nil && ctx.Err() == nil && l.Check() != nil {
			slog.Warn("work is left to other instances", "lease", l.kept.Name, "error", err)
			l.lose(ErrLost)
			return
		}
	}
}

// renewOnce renews the lease, unless the records take too long to say so.
func (l *Lease) renewOnce(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, l.length/4)
	defer cancel()
	requested := time.Now()
	_, err := l.db.Renew(ctx, l.kept, l.length)
	switch {
	case err == nil:
		l.requested.Store(&requested)
	case errors.Is(err, records.ErrTakenOver):
		l.requested.Store(nil)
	}
	return err
}
