package replication

import (
	"context"
	"errors"
	"slices"

	"bridgespan/core/replica"
)

// What must be true of the records of a replica, whatever happens: what is present is in
// a folder that is present, and a file is present at one path, hard links apart. That
// costs nothing while it is true: it is checked against what is at hand anyway. A path of
// which it is not is looked at again at the end of the scan.

// Repair is a record that contradicted what a replica shows, or another record, and was
// put right by looking again. It should never be needed.
type Repair struct {
	Replica string
	Path    string
	Found   string // what was wrong
}

// repair reports a repair.
func (e *Engine) repair(r *Replica, path, found string) {
	if e.Repaired != nil {
		e.Repaired(Repair{r.Name, path, found})
	}
}

// What can be wrong with a record.
const (
	foundOrphan = "its record said that it is there, that of its folder did not"
	foundTwice  = "the records had it at two paths"
	foundSame   = "its content had changed, its size and time had not"
)

// mostSuspects bounds how many paths of a replica are looked at again after a scan.
const mostSuspects = 10_000

// suspect has a path looked at again, since something is wrong with its record.
func (e *Engine) suspect(id replica.ID, key, found string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.suspects == nil {
		e.suspects = map[replica.ID]map[string]string{}
	}
	if e.suspects[id] == nil {
		e.suspects[id] = map[string]string{}
	}
	if len(e.suspects[id]) < mostSuspects {
		e.suspects[id][key] = found
	}
}

// suspectOrphans suspects what was saved as present in a folder that is not.
func (e *Engine) suspectOrphans(c replica.Change) {
	checked := "."
	for i := range c.Records {
		above := parentKey(c.Records[i].Key)
		if c.Records[i].Kind == replica.None || above == checked {
			continue
		}
		if folder, known := e.known.folder(place{c.Replica, above}); known && folder.Kind != replica.Folder && folder.Pending == nil {
			e.suspect(c.Replica, c.Records[i].Key, foundOrphan)
			continue
		}
		checked = above
	}
}

// audit suspects all orphans among the records of a replica, once: earlier versions may
// have left some, and no scan comes to them.
func (e *Engine) audit(ctx context.Context, r *Replica) error {
	e.mu.Lock()
	audited := e.audited[r.ID]
	e.mu.Unlock()
	if audited || !e.scanned(r) {
		return nil
	}
	orphans, err := e.Store.Orphans(ctx, r.ID, mostSuspects)
	if err != nil {
		return err
	}
	for _, key := range orphans {
		e.suspect(r.ID, key, foundOrphan)
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.audited == nil {
		e.audited = map[replica.ID]bool{}
	}
	e.audited[r.ID] = len(orphans) < mostSuspects
	return nil
}

// examine looks again at what is suspected at a replica.
func (e *Engine) examine(ctx context.Context, r *Replica) error {
	e.mu.Lock()
	suspects := e.suspects[r.ID]
	delete(e.suspects, r.ID)
	e.mu.Unlock()
	if len(suspects) == 0 {
		return nil
	}
	keys := make([]string, 0, len(suspects))
	for key := range suspects {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	records, err := e.Store.Get(ctx, r.ID, keys...)
	if err != nil {
		return err
	}
	for _, rec := range records {
		if rec.Kind == replica.None || rec.Pending != nil { // it was noted meanwhile, or will be
			continue
		}
		switch err := e.lookAgain(ctx, r, rec.Key); {
		case fatal(ctx, err):
			return err
		case errors.Is(err, errMoved):
			e.repair(r, rec.Key, suspects[rec.Key])
		case errors.Is(err, errLater): // the next scan is to try it
			e.suspect(r.ID, rec.Key, suspects[rec.Key])
		}
	}
	return nil
}

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
		if err := e.emptied(ctx, r, rec.Key, e.removed(r)); err != nil {
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
