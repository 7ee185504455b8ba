package replication

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"path"
	"slices"

	"bridgespan/core/replica"
)

// Files that are not listed any more are recorded as removed at the end of a scan: until then their records help to recognise
// renamed files.

// absence names the files and folders of a folder that are not listed any more.
type absence struct {
	folder string
	keys   []string
}

// mostAbsent is how many absent paths are kept until the end of a scan, unless an engine has its own bound.
const mostAbsent = 100_000

// notListed keeps the absent paths of a folder until the end of the scan. Above the bound, all kept paths are recorded at once.
func (s *scan) notListed(ctx context.Context, folder string, left map[string]replica.Record) error {
	a := absence{folder: folder}
	for _, key := range slices.Sorted(maps.Keys(left)) {
		if left[key].Kind != replica.None {
			a.keys = append(a.keys, key)
		}
	}
	if len(a.keys) == 0 {
		return nil
	}
	s.mu.Lock()
	s.absent = append(s.absent, a)
	s.kept += len(a.keys)
	kept := s.kept
	s.mu.Unlock()
	if kept > cmp.Or(s.mostAbsent, mostAbsent) {
		return s.gone(ctx)
	}
	return nil
}

// gone checks the absent paths once more, and records them as removed. Pending removals are not recorded; after the decision to
// restore they are recorded so that the other replicas send the files back.
func (s *scan) gone(ctx context.Context) error {
	s.mu.Lock()
	absent := s.absent
	s.absent, s.kept = nil, 0
	s.mu.Unlock()
	items, pending, err := s.heldBack(ctx, absent)
	if err != nil {
		return err
	}
	for _, a := range absent {
		var gone, waits absence
		for _, key := range a.keys {
			if pending && items[key] > 0 {
				waits.keys = append(waits.keys, key)
			} else {
				gone.keys = append(gone.keys, key)
			}
		}
		gone.folder, waits.folder = a.folder, a.folder
		if err := s.goneIn(ctx, gone, s.removed(s.r), items); err != nil {
			return err
		}
		if s.decision == replica.Restore {
			if err := s.goneIn(ctx, waits, s.restored(s.r), nil); err != nil {
				return err
			}
		}
	}
	return nil
}

// departure is how a removal is recorded: which lanes hear of it, and what is changed before.
type departure struct {
	queue []replica.Lane // lanes that carry the removal
	// first is called before the records are stored; it may be nil.
	first func(context.Context, []replica.Record) error
}

// removed has the other replicas remove the files as well.
func (e *Engine) removed(r *Replica) departure { return departure{queue: e.toTell(r)} }

// restored has the other replicas send the files back.
func (e *Engine) restored(r *Replica) departure {
	return departure{e.into(r), func(ctx context.Context, gone []replica.Record) error { return e.reviveFor(ctx, r, gone) }}
}

// keepGone stores records of removed files; scanned tells that a scan missed them.
func (e *Engine) keepGone(ctx context.Context, r *Replica, gone []replica.Record, d departure, scanned bool) error {
	if len(gone) == 0 {
		return nil
	}
	if d.first != nil {
		if err := d.first(ctx, gone); err != nil {
			return err
		}
	}
	return e.keep(ctx, replica.Change{Replica: r.ID, Records: gone, Queue: d.queue}, scanned)
}

// goneIn records the absent paths of a folder as removed, and counts the items of those that are recorded.
func (s *scan) goneIn(ctx context.Context, a absence, d departure, items map[string]int64) error {
	h := s.newHold()
	defer h.release()
	name := a.folder
	var keys []string
	for _, key := range a.keys {
		if h.change(s.r, key) {
			keys = append(keys, key)
		} else {
			s.count(0, 0, 1)
		}
	}
	if len(keys) == 0 {
		return nil
	}
	release, err := s.standing(ctx, s.r, keys[0], path.Join(name, path.Base(keys[0])))
	if errors.Is(err, errLater) {
		s.count(0, 0, len(keys))
		return nil
	}
	if err != nil {
		return err
	}
	defer release()
	records, err := s.Store.Get(ctx, s.r.ID, keys...)
	if err != nil {
		return err
	}
	var changed []replica.Record
	for _, rec := range records {
		if rec.Kind == replica.None || rec.Pending != nil {
			continue
		}
		e, err := s.r.Tree.Stat(ctx, path.Join(name, rec.Name))
		if !absent(err) {
			if err != nil || kindOf(e) == rec.Kind { // it came back, or cannot be told
				continue
			}
		}
		if rec.Kind == replica.Folder {
			err := s.emptied(ctx, s.r, rec.Key, d)
			if errors.Is(err, errLater) {
				s.count(0, 0, 1)
				continue
			}
			if err != nil {
				return err
			}
			if s.shallow {
				s.folderGone(s.r)
			}
		}
		if s.noteRemoved(s.r, &rec) {
			changed = append(changed, rec)
		}
	}
	if err := s.keepGone(ctx, s.r, changed, d, true); errors.Is(err, errLater) {
		s.count(0, 0, len(changed))
		return nil
	} else if err != nil {
		return err
	}
	s.count(0, len(changed), 0)
	var passed int64
	for i := range changed {
		passed += items[changed[i].Key]
	}
	s.passRemovals(s.r, passed)
	return nil
}

// emptied notes of everything below a folder that is gone that it is. It returns
// errLater when somebody is at work there: then the folder is not to be noted as
// gone yet.
func (e *Engine) emptied(ctx context.Context, r *Replica, key string, d departure) error {
	children, err := e.Store.Children(ctx, r.ID, key)
	if err != nil {
		return &storeError{err}
	}
	h := e.newHold()
	defer h.release()
	var keys []string
	for _, child := range children {
		if child.Kind == replica.None && child.Pending == nil {
			continue
		}
		if !h.change(r, child.Key) {
			return errLater
		}
		keys = append(keys, child.Key)
	}
	if len(keys) == 0 {
		return nil
	}
	records, err := e.Store.Get(ctx, r.ID, keys...)
	if err != nil {
		return &storeError{err}
	}
	var changed []replica.Record
	for _, rec := range records {
		if rec.Kind == replica.Folder {
			if err := e.emptied(ctx, r, rec.Key, d); err != nil {
				return err
			}
		}
		if e.noteRemoved(r, &rec) {
			changed = append(changed, rec)
		}
	}
	return e.keepGone(ctx, r, changed, d, false)
}
