package replication

import (
	"context"
	"errors"
	"slices"
	"strings"

	"bridgespan/core/replica"
)

// Carried is what a lane did.
type Carried struct {
	Done      int   // paths that are as they should be
	Files     int   // that were written
	Bytes     int64 // that were written
	Conflicts int
	Postponed int // that could not be done now
}

// Carry works off up to limit paths of a lane's backlog. What cannot be done is
// told to Trouble and stays in the backlog, behind the others. It does nothing
// while the sender is not filled, or one of both was not yet looked at.
func (e *Engine) Carry(ctx context.Context, lane replica.Lane, limit int) (Carried, error) {
	c := &carry{Engine: e, lane: lane, from: e.replica(lane.From), to: e.replica(lane.To)}
	if !c.from.Filled || !c.to.Scanned {
		return c.done, nil
	}
	tickets, err := e.Store.Backlog(ctx, lane, limit)
	if err != nil {
		return c.done, err
	}
	for _, r := range []*Replica{c.from, c.to} {
		if err := e.identify(ctx, r); err != nil {
			return c.done, err
		}
	}
	// Folders before what is in them; and the other way round where they go.
	slices.SortFunc(tickets, func(a, b replica.Ticket) int { return strings.Compare(a.Key, b.Key) })
	var later []replica.Ticket
	for _, t := range tickets {
		if later, err = c.ticket(ctx, t, later); err != nil {
			return c.done, err
		}
	}
	for _, t := range slices.Backward(later) {
		left, err := c.ticket(ctx, t, nil)
		if err != nil {
			return c.done, err
		}
		if len(left) > 0 {
			c.done.Postponed++
			if err := e.Store.Postpone(ctx, lane, left); err != nil {
				return c.done, err
			}
		}
	}
	return c.done, e.fill(ctx, c.to)
}

type carry struct {
	*Engine
	lane     replica.Lane
	from, to *Replica
	done     Carried
}

// ticket does what is to be done about one path; when something else is to be
// done first it is added to later.
func (c *carry) ticket(ctx context.Context, t replica.Ticket, later []replica.Ticket) ([]replica.Ticket, error) {
	err := c.path(ctx, t.Key, 0)
	if ctx.Err() != nil {
		return later, ctx.Err()
	}
	var failed *storeError
	switch {
	case errors.As(err, &failed):
		return later, failed.err
	case err == nil:
		c.done.Done++
		return later, c.Store.Done(ctx, c.lane, []replica.Ticket{t})
	case !errors.Is(err, errLater) && !errors.Is(err, errMoved):
		c.trouble(c.to, t.Key, err)
	}
	return append(later, t), nil
}

// storeError is a failure of the records: without them nothing can go on.
type storeError struct{ err error }

func (s *storeError) Error() string { return s.err.Error() }
func (s *storeError) Unwrap() error { return s.err }

func (c *carry) get(ctx context.Context, r *Replica, key string) (replica.Record, error) {
	rec, err := c.Store.Get(ctx, r.ID, key)
	if err == nil && rec.Pending != nil {
		if err := c.settle(ctx, r, rec); err != nil {
			return rec, err
		}
		rec, err = c.Store.Get(ctx, r.ID, key)
	}
	if err != nil {
		return rec, &storeError{err}
	}
	return rec, nil
}

func (c *carry) save(ctx context.Context, change replica.Change) error {
	if err := c.Store.Save(ctx, change); err != nil {
		return &storeError{err}
	}
	return nil
}

// path makes one path at the receiver what the rules say.
func (c *carry) path(ctx context.Context, key string, depth int) error {
	from, err := c.get(ctx, c.from, key)
	if err != nil {
		return err
	}
	to, err := c.get(ctx, c.to, key)
	if err != nil {
		return err
	}
	v := replica.Decide(&from, &to)
	if v.Idle() {
		return nil
	}
	if to.Kind == replica.None && from.Kind != replica.None && v.Content == replica.Take {
		if err := c.parent(ctx, key, depth); err != nil {
			return err
		}
	}
	here, err := c.pathOf(ctx, c.to, &to, &from)
	if err != nil {
		return err
	}
	there, err := c.pathOf(ctx, c.from, &from, &to)
	if err != nil {
		return err
	}
	m := &move{carry: c, from: from, to: to, v: v, there: there, here: here}
	if m.touches() {
		// Only what both ends still show may be acted on.
		if err := c.current(ctx, c.to, here, to); err != nil {
			return err
		}
		if err := c.current(ctx, c.from, there, from); err != nil {
			return err
		}
	}
	return m.do(ctx)
}

// current returns errMoved, after noting the change, when people have changed
// what is at a path since its record was made.
func (c *carry) current(ctx context.Context, r *Replica, name string, rec replica.Record) error {
	ok, err := unchanged(ctx, r, name, &rec)
	if err != nil || ok {
		return err
	}
	now, changed, err := c.observe(ctx, r, name, rec)
	if err != nil {
		return err
	}
	if rec.Kind == replica.Folder && now.Kind != replica.Folder {
		if err := (&scan{Engine: c.Engine, r: r}).emptied(ctx, rec.Key); err != nil {
			return &storeError{err}
		}
	}
	change := replica.Change{Replica: r.ID, Records: []replica.Record{now}}
	if changed {
		change.Queue = c.toTell(r)
	}
	if err := c.save(ctx, change); err != nil {
		return err
	}
	return errMoved
}

// fill notes that a replica has had all that the set had.
func (e *Engine) fill(ctx context.Context, r *Replica) error {
	if r.Filled || !r.Scanned {
		return nil
	}
	for _, l := range e.into(r) {
		if !e.replica(l.From).Filled {
			continue
		}
		left, err := e.Store.Backlog(ctx, l, 1)
		if err != nil {
			return err
		}
		r.Filled = r.Filled || len(left) == 0
	}
	return nil
}
