package replication

import (
	"context"
	"errors"

	"bridgespan/core/replica"
)

// lookAbove looks at the folders above a path that is missing, from the top down, and
// notes the first that is missing, too, although its record says that it is there. It
// returns errMoved when it noted one, and nil when all are there.
func (e *Engine) lookAbove(ctx context.Context, r *Replica, key string) error {
	var folders []string
	for above := parentKey(key); above != "."; above = parentKey(above) {
		folders = append(folders, above)
	}
	for i := range folders {
		above := folders[len(folders)-1-i]
		if err := e.lookAtPath(ctx, r, above); err != nil {
			return err
		}
	}
	return nil
}

// lookAgain looks at a path and the folders above it, and notes what is not as its
// record says. It returns errMoved when it noted something.
func (e *Engine) lookAgain(ctx context.Context, r *Replica, key string) error {
	if err := e.lookAbove(ctx, r, key); err != nil {
		return err
	}
	return e.lookAtPath(ctx, r, key)
}

// lookAtPath looks at a path, and notes what is not as its record says.
func (e *Engine) lookAtPath(ctx context.Context, r *Replica, key string) error {
	h := e.newHold()
	defer h.release()
	if !h.change(r, key) {
		return errBusy
	}
	rec, err := e.get(ctx, r, key)
	if err != nil {
		return err
	}
	if rec.Pending != nil {
		return e.settle(ctx, r, rec)
	}
	name, err := e.pathOf(ctx, r, &rec, &rec)
	if err != nil {
		return err
	}
	if ok, err := unchanged(ctx, r, name, &rec); err != nil || ok {
		return err
	}
	return e.noteChanged(ctx, r, name, rec)
}

// noteChanged notes that what is at a path, which is claimed, is no longer what its
// record says, and returns errMoved.
func (e *Engine) noteChanged(ctx context.Context, r *Replica, name string, rec replica.Record) error {
	now, changed, err := e.observe(ctx, r, name, rec, 0)
	if err != nil {
		return err
	}
	if rec.Kind == replica.Folder && now.Kind != replica.Folder {
		if err := e.emptied(ctx, r, rec.Key); err != nil {
			return err
		}
		e.folderGone(r)
	}
	change := replica.Change{Replica: r.ID, Records: []replica.Record{now}}
	if changed {
		change.Queue = e.toTell(r)
	}
	if err := e.save(ctx, change); err != nil {
		return err
	}
	return errMoved
}

// reread reads a file at the sender that was not what its record says when it was
// brought, and notes that. It returns errMoved.
func (m *move) reread(ctx context.Context) error {
	r := m.carry.from
	ok, err := unchanged(ctx, r, m.there, &m.from)
	if err != nil {
		return err
	}
	if !ok {
		return m.changed(ctx, r, m.there, m.from)
	}
	if !m.from.Digest.Known() {
		return errMoved
	}
	if !m.change(r, m.from.Key) {
		return errBusy
	}
	d, entry, err := digest(ctx, r.Tree, m.there)
	if absent(err) || errors.Is(err, errMoved) || err == nil && !asKept(&m.from, entry) {
		return m.changed(ctx, r, m.there, m.from)
	}
	if err != nil || d == m.from.Digest {
		return errors.Join(err, errMoved)
	}
	// It was written without a new time, or the record was wrong.
	rec := m.from
	rec.Version, rec.Digest, rec.Changed, rec.By = rec.Version.Advance(r.ID), d, m.Now(), r.ID
	if err := m.save(ctx, replica.Change{Replica: r.ID, Records: []replica.Record{rec}, Queue: m.toTell(r)}); err != nil {
		return err
	}
	m.repair(r, m.there, foundSame)
	return errMoved
}
