package replication

import (
	"context"
	"fmt"
	"path"
	"sync"

	"golang.org/x/sync/singleflight"

	"bridgespan/core/replica"
	"bridgespan/guard"
)

// known is what the engine itself knows of its records: how often it has saved
// some of a replica, and those of folders that it lately asked for.
type known struct {
	mu      sync.Mutex
	saves   map[replica.ID]uint64
	carried map[replica.ID]uint64 // of which not by its scan
	folders map[place]replica.Record
	// listings are folders that were listed as their records say.
	listings map[place]listingSum
	asked    singleflight.Group
	// pending are the paths at which something is begun, by the folders that they are in.
	// What was begun before this engine came is among them once a replica is settled.
	pending map[place]map[string]bool
	settled map[replica.ID]bool
}

// maxKnown bounds how many folders are known at a time.
const maxKnown = 20_000

// saved is how often records of a replica were saved.
func (k *known) saved(r *Replica) uint64 {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.saves[r.ID]
}

// brought is how often records of a replica were saved by others than its scan.
// What the scan read after it said so, and claimed before it says the same
// again, is as it is kept.
func (k *known) brought(r *Replica) uint64 {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.carried[r.ID]
}

func (k *known) folder(p place) (replica.Record, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	rec, ok := k.folders[p]
	return rec, ok
}

// learn keeps the record of a folder, unless one was saved since.
func (k *known) learn(p place, rec replica.Record, saves uint64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.saves[p.replica] != saves {
		return
	}
	if k.folders == nil || len(k.folders) >= maxKnown {
		k.folders = map[place]replica.Record{}
	}
	k.folders[p] = rec
}

// noteSaved notes what a change changes. When it was kept, that is what is known from now on.
func (k *known) noteSaved(c replica.Change, scanned, kept bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.saves == nil {
		k.saves, k.carried = map[replica.ID]uint64{}, map[replica.ID]uint64{}
	}
	k.saves[c.Replica]++
	if !scanned {
		k.carried[c.Replica]++
	}
	for _, rec := range c.Records {
		at := place{c.Replica, rec.Key}
		delete(k.folders, at)
		above := place{c.Replica, parentKey(rec.Key)}
		delete(k.listings, above)
		if rec.Pending != nil {
			k.begun(above, rec.Key)
		} else if kept && len(k.pending) > 0 {
			k.ended(above, rec.Key)
		}
		if kept && rec.Kind == replica.Folder && rec.Pending == nil && len(k.folders) < maxKnown {
			if k.folders == nil {
				k.folders = map[place]replica.Record{}
			}
			k.folders[at] = rec
		}
	}
}

func (k *known) begun(above place, key string) {
	if k.pending == nil {
		k.pending = map[place]map[string]bool{}
	}
	if k.pending[above] == nil {
		k.pending[above] = map[string]bool{}
	}
	k.pending[above][key] = true
}

func (k *known) ended(above place, key string) {
	if delete(k.pending[above], key); len(k.pending[above]) == 0 {
		delete(k.pending, above)
	}
}

// noteSettled notes what is still pending at a replica after it was settled.
func (k *known) noteSettled(r *Replica, pending []string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.settled == nil {
		k.settled = map[replica.ID]bool{}
	}
	k.settled[r.ID] = true
	for _, key := range pending {
		k.begun(place{r.ID, parentKey(key)}, key)
	}
}

// allSettled reports whether nothing at all is begun at a replica.
func (k *known) allSettled(r *Replica) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	for at := range k.pending {
		if at.replica == r.ID {
			return false
		}
	}
	return k.settled[r.ID]
}

// nothingPending reports whether nothing is begun right in a folder.
func (k *known) nothingPending(r *Replica, folder string) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.settled[r.ID] && len(k.pending[place{r.ID, folder}]) == 0
}

// save keeps a change. The paths of its records must have been claimed.
func (e *Engine) save(ctx context.Context, c replica.Change) error {
	return e.keep(ctx, c, false)
}

// keep saves a change; scanned is true of what a scan saw.
func (e *Engine) keep(ctx context.Context, c replica.Change, scanned bool) error {
	if err := e.readSealed(ctx, &c); err != nil {
		return err
	}
	err := e.Store.Save(ctx, c)
	e.known.noteSaved(c, scanned, err == nil) // it may have been kept in spite of an error
	if err != nil {
		return &storeError{err}
	}
	e.seal(ctx, c)
	e.suspectOrphans(c)
	return nil
}

// get reads one record.
func (e *Engine) get(ctx context.Context, r *Replica, key string) (replica.Record, error) {
	found, err := e.Store.Get(ctx, r.ID, key)
	if err != nil {
		return replica.Record{Key: key}, &storeError{err}
	}
	return found[0], nil
}

// folderRecord is the record of a folder, as it was not long ago: what is done
// with it must fail if it is another one now.
func (e *Engine) folderRecord(ctx context.Context, r *Replica, key string) (replica.Record, error) {
	if rec, ok := e.known.folder(place{r.ID, key}); ok {
		return rec, nil
	}
	// Of many that ask at the same time, one does; not under the context of one of them,
	// who may give up.
	lasting := context.WithoutCancel(ctx)
	var rec replica.Record
	answered := guard.Result(func() error {
		answer, err, _ := e.known.asked.Do(fmt.Sprint(r.ID, "/", key), func() (any, error) {
			saves := e.known.saved(r)
			rec, err := e.get(lasting, r, key)
			if err == nil {
				e.known.learn(place{r.ID, key}, rec, saves)
			}
			return rec, err
		})
		rec, _ = answer.(replica.Record)
		return err
	})
	select {
	case err := <-answered:
		return rec, err
	case <-ctx.Done():
		return replica.Record{Key: key}, ctx.Err()
	}
}

// spelled is the path of a folder at a replica, as it is written there.
func (e *Engine) spelled(ctx context.Context, r *Replica, key string) (string, error) {
	if key == "." {
		return ".", nil
	}
	rec, err := e.folderRecord(ctx, r, key)
	if err != nil {
		return "", err
	}
	above, err := e.spelled(ctx, r, parentKey(key))
	if err != nil {
		return "", err
	}
	name := rec.Name
	if name == "" {
		name = path.Base(key)
	}
	return path.Join(above, name), nil
}

// standing claims that nobody makes, renames or removes a folder above a path,
// and returns errLater when somebody does, or has done so since its name was
// told. Only then does nothing under a name mean that nothing is there.
func (e *Engine) standing(ctx context.Context, r *Replica, key, name string) (release func(), err error) {
	h := e.newHold()
	for above := parentKey(key); above != "."; above = parentKey(above) {
		if !h.rely(r, above) {
			h.release()
			return nil, errLater
		}
		rec, err := e.folderRecord(ctx, r, above)
		if err == nil && rec.Pending != nil {
			err = errLater
		}
		if err != nil {
			h.release()
			return nil, err
		}
	}
	folder, err := e.spelled(ctx, r, parentKey(key))
	if err == nil && folder != path.Dir(name) {
		err = errLater
	}
	if err != nil {
		h.release()
		return nil, err
	}
	return h.release, nil
}
