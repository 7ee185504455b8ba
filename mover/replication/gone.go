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

// What is not listed any more is noted as gone when all else was looked at: until then
// its record tells that something new is what was there, and was renamed.

// absence is what is not listed any more in a folder.
type absence struct {
	folder string
	keys   []string
}

// mostAbsent bounds how many paths are kept until all was looked at, unless an engine
// has a bound of its own.
const mostAbsent = 100_000

// notListed keeps what was not listed in a folder for later. When that is too much, all
// of it is noted at once.
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

// gone looks once more for what was not listed, and notes that it is not there.
func (s *scan) gone(ctx context.Context) error {
	s.mu.Lock()
	absent := s.absent
	s.absent, s.kept = nil, 0
	s.mu.Unlock()
	for _, a := range absent {
		if err := s.goneIn(ctx, a); err != nil {
			return err
		}
	}
	return nil
}

func (s *scan) goneIn(ctx context.Context, a absence) error {
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
			err := s.emptied(ctx, s.r, rec.Key)
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
	s.count(0, len(changed), 0)
	return s.save(ctx, changed, "")
}

// emptied notes that everything below a folder that is gone is gone. It returns
// errLater when somebody is at work there: then the folder is not to be noted as
// gone yet.
func (e *Engine) emptied(ctx context.Context, r *Replica, key string) error {
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
			if err := e.emptied(ctx, r, rec.Key); err != nil {
				return err
			}
		}
		if e.noteRemoved(r, &rec) {
			changed = append(changed, rec)
		}
	}
	if len(changed) == 0 {
		return nil
	}
	return e.save(ctx, replica.Change{Replica: r.ID, Records: changed, Queue: e.toTell(r)})
}
