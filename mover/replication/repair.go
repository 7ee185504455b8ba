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
