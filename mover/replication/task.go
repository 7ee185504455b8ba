package replication

import (
	"cmp"
	"context"
	"errors"
	"io"

	"bridgespan/core/chunk"
	"bridgespan/core/replica"
	"bridgespan/mover/transfer"
	"bridgespan/tree"
)

// task is the work about one ticket, with all that it has claimed for that.
type task struct {
	*carry
	*hold
	ticket replica.Ticket
	stage  stage
	failed bool               // it could not be done, for a reason that will not pass at once
	ends   [2]*replica.Record // of the path at both ends when it was begun, where they were read
	size   int64              // bytes of the sender's file
	// atSender and atReceiver are the records of the ticket's path that were read after
	// they were claimed, for their first use; nil after it.
	atSender, atReceiver *replica.Record
	// files come with the folder that the task is about, of so many bytes.
	files []*task
	bytes int64
	with  *task // whose files it is one of, unless that has none after all
	// arrived is true of a file that came with its folder.
	arrived bool
}

// do does what is to be done about the ticket; false when something else is to
// be done first, or it could not be done. An error ends all tasks.
func (e *task) do(ctx context.Context) (bool, error) {
	defer e.releaseAll()
	e.progress.start(e.Now(), e.ticket.Key, e.size+e.bytes)
	defer e.progress.stop(e.ticket.Key)
	err := e.carry.limiter.Work(func() error {
		if len(e.files) > 0 {
			if done, err := e.bring(ctx); done || fatal(ctx, err) {
				return err
			}
		}
		return e.path(ctx, e.ticket.Key, 0)
	})
	if ctx.Err() != nil {
		return false, ctx.Err()
	}
	if absent(err) {
		e.release()
		err = cmp.Or(e.lookAbove(ctx, e.carry.to, e.ticket.Key), err)
	}
	e.ended(err)
	var failed *storeError
	switch {
	case errors.As(err, &failed):
		return false, failed.err
	case err == nil:
		return true, nil
	case errors.Is(err, tree.ErrUnreachable): // nothing else would go either
		return false, err
	case !errors.Is(err, errLater) && !errors.Is(err, errMoved) && !absent(err):
		e.failed = true
		name, bad := e.spelled(ctx, e.carry.from, e.ticket.Key)
		if bad != nil {
			name = e.ticket.Key
		}
		e.trouble(e.carry.to, name, err)
	}
	return false, nil
}

// ended notes how the task ended, should its ticket not have. What was to come with its
// folder and did not has ended so, too.
func (e *task) ended(err error) {
	for _, f := range e.files {
		if !f.arrived {
			f.ended(cmp.Or(err, errLater))
		}
	}
	if err == nil {
		return
	}
	o := outcome{stateOf(e.ends[0], e.ends[1]), err}
	e.carry.mu.Lock()
	defer e.carry.mu.Unlock()
	if e.outcomes == nil {
		e.outcomes = map[string]outcome{}
	}
	e.outcomes[e.ticket.Key] = o
}

// fatal reports whether an error ends more than what met it.
func fatal(ctx context.Context, err error) bool {
	var failed *storeError
	return ctx.Err() != nil || errors.As(err, &failed) || errors.Is(err, tree.ErrUnreachable)
}

// releaseAll gives back what the task and those that come with it have claimed.
func (e *task) releaseAll() {
	e.release()
	for _, f := range e.files {
		f.release()
	}
}

// storeError is a failure of the records: without them nothing can go on.
type storeError struct{ err error }

func (s *storeError) Error() string { return s.err.Error() }
func (s *storeError) Unwrap() error { return s.err }

// record claims a path and reads its record: at the receiver to change it, at
// the sender to rely on it. It returns errLater when somebody else is at work on it.
func (e *task) record(ctx context.Context, r *Replica, key string) (replica.Record, error) {
	ok := e.rely(r, key)
	if r == e.carry.to {
		ok = e.change(r, key)
	}
	if !ok {
		return replica.Record{Key: key}, errBusy
	}
	rec, err := e.fresh(ctx, r, key)
	if err != nil {
		return rec, err
	}
	if rec.Pending == nil {
		return rec, nil
	}
	if !e.change(r, key) {
		return rec, errBusy
	}
	if err := e.settle(ctx, r, rec); err != nil {
		return rec, err
	}
	return e.get(ctx, r, key)
}

// fresh is a record that was read after it was claimed: before, or now.
func (e *task) fresh(ctx context.Context, r *Replica, key string) (replica.Record, error) {
	read := &e.atSender
	if r == e.carry.to {
		read = &e.atReceiver
	}
	if key != e.ticket.Key || *read == nil {
		return e.get(ctx, r, key)
	}
	rec := **read
	*read = nil
	return rec, nil
}

// path makes one path at the receiver what the rules say.
func (e *task) path(ctx context.Context, key string, depth int) error {
	from, err := e.record(ctx, e.carry.from, key)
	if err != nil {
		return err
	}
	to, err := e.record(ctx, e.carry.to, key)
	if err != nil {
		return err
	}
	if replica.Unread(&from, &to) {
		if err := e.read(ctx, e.carry.from, &from, &to); err != nil {
			return err
		}
		if err := e.read(ctx, e.carry.to, &to, &from); err != nil {
			return err
		}
	}
	v := replica.Decide(&from, &to)
	if v.Content != replica.Take || from.Kind != replica.File { // nothing is to go on
		if err := e.carry.receiver.Forget(ctx, key); err != nil {
			return err
		}
	}
	if v.Idle() {
		return nil
	}
	if to.Kind == replica.File && v.Content != replica.Take && v.Permissions == replica.Take {
		// Its time is set too, and then what is in it must be known.
		if err := e.read(ctx, e.carry.to, &to, &from); err != nil {
			return err
		}
	}
	if to.Kind == replica.None && from.Kind != replica.None && v.Content == replica.Take {
		if err := e.parent(ctx, key, depth); err != nil {
			return err
		}
	}
	here, err := e.pathOf(ctx, e.carry.to, &to, &from)
	if err != nil {
		return err
	}
	there, err := e.pathOf(ctx, e.carry.from, &from, &to)
	if err != nil {
		return err
	}
	m := &move{task: e, from: from, to: to, v: v, there: there, here: here}
	if m.touches() && !m.brings() {
		// Only what both ends still show may be acted on.
		if err := e.current(ctx, e.carry.to, here, to); err != nil {
			return err
		}
		if err := e.current(ctx, e.carry.from, there, from); err != nil {
			return err
		}
	}
	return m.do(ctx)
}

// read reads the file of a record that was not read yet, and notes what is in it.
func (e *task) read(ctx context.Context, r *Replica, rec, other *replica.Record) error {
	if rec.Digest.Known() {
		return nil
	}
	name, err := e.pathOf(ctx, r, rec, other)
	if err != nil {
		return err
	}
	var d chunk.Digest
	var entry tree.Entry
	lister := e.endpoint(r).NewLister(rec.Size)
	through := func(content io.Reader) io.Reader {
		// What may be adopted is read at both ends: between them it crosses once.
		if adopts := rec.Prior() || other.Prior(); adopts && r == e.carry.to {
			content = e.carry.paced(ctx, content)
		}
		return lister.Beside(content)
	}
	err = e.carry.limiter.File(rec.Size, func() (err error) {
		d, entry, err = transfer.Digest(ctx, r.Tree, name, through)
		return err
	})
	if errors.Is(err, tree.ErrStub) {
		if d, err = e.readStub(ctx, r, name, rec, other); err != nil || !d.Known() {
			return err
		}
		entry, err = seenEntry(rec), nil
	}
	if absent(err) || errors.Is(err, errMoved) || err == nil && !asKept(rec, entry) {
		return e.changed(ctx, r, name, *rec)
	}
	if err == nil {
		err = e.endpoint(r).KeepList(ctx, lister, d)
	}
	if err != nil {
		return err
	}
	rec.Digest = d
	if !e.change(r, rec.Key) { // others rely on it as it is; it is known here, and read again another time
		return nil
	}
	return e.save(ctx, replica.Change{Replica: r.ID, Records: []replica.Record{*rec}})
}

// current returns errMoved, after noting the change, when people have changed
// what is at a path since its record was made.
func (e *task) current(ctx context.Context, r *Replica, name string, rec replica.Record) error {
	ok, err := unchanged(ctx, r, name, &rec)
	if err != nil || ok {
		return err
	}
	return e.changed(ctx, r, name, rec)
}

// changed notes that what is at a path is no longer what its record says, and
// returns errMoved.
func (e *task) changed(ctx context.Context, r *Replica, name string, rec replica.Record) error {
	if !e.change(r, rec.Key) {
		return errBusy
	}
	return e.noteChanged(ctx, r, name, rec)
}
