// Package work lets one instance of the service at a time do a piece of work.
//
// Who does it holds a lease in the records. All leases of an instance are renewed together, on a
// clock of their own, whatever the work is doing. What the work writes with [Lease.Context] is refused once
// another instance has taken the work over; before it changes something on a file server,
// it asks [Lease.Check]. So an instance that stood still for a minute, or whose
// database did, cannot carry on beside the one that has taken its place.
package work

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"sync"
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

	mu      sync.Mutex
	taken   []*Lease           // those that are renewed
	over    context.CancelFunc // ends the renewing; nil while none is taken
	renewal sync.Mutex         // held by a renewal: nothing is released meanwhile
}

// ErrLost is the cause of the end of a lease's context when it ran out before it could be
// renewed, or was taken over.
var ErrLost = errors.New("the lease of the work was lost")

// Lease is the right to do a piece of work, until it is released or lost.
type Lease struct {
	of        *Leases
	kept      records.Lease
	length    time.Duration
	requested atomic.Pointer[time.Time] // when the lease was last requested with success; nil once it was taken over
	held      context.Context
	lose      context.CancelCauseFunc
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
	l := &Lease{of: s, kept: kept, length: length}
	l.requested.Store(&requested)
	l.held, l.lose = context.WithCancelCause(context.WithoutCancel(ctx))
	s.keepRenewed(l)
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
	l.of.leaveAlone(l)
	l.lose(ErrLost)
	ctx, cancel := context.WithTimeout(context.WithoutCancel(l.held), l.length)
	defer cancel()
	if err := l.of.DB.Release(ctx, l.kept); err != nil {
		slog.Warn("a lease runs out by itself", "lease", l.kept.Name, "error", err)
	}
}
