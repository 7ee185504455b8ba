package replication

import (
	"context"
	"maps"
	"slices"

	"bridgespan/core/replica"
)

// When a scan finds more removals than the limit of a replica allows, they are pending: its records still say that the files are
// there, and every scan finds them missing again, until somebody decides.

// Decide sets what the next scan of a replica does with its pending removals.
func (e *Engine) Decide(id replica.ID, d replica.Decision) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.replica(id).Decision = d
}

// heldBack returns how many items are missing by the keys of absent files, and of absent folders with files; pending is true when these
// removals are pending.
func (s *scan) heldBack(ctx context.Context, absent []absence) (items map[string]int64, pending bool, err error) {
	if s.r.Removals.Percent == 0 || !s.scanned(s.r) || s.decision == replica.Apply {
		return nil, false, nil
	}
	items = map[string]int64{}
	var all replica.Removals
	for _, a := range absent {
		records, err := s.Store.Get(ctx, s.r.ID, a.keys...)
		if err != nil {
			return nil, false, err
		}
		missing, err := s.missing(ctx, s.r, records)
		if err != nil {
			return nil, false, err
		}
		for i := range records {
			if missing[i].Items > 0 {
				items[records[i].Key] = missing[i].Items
				all.AddAll(missing[i])
			}
		}
	}
	if s.decision != replica.Restore && !s.exceeds(all.Items) {
		return items, false, nil
	}
	for i, key := range all.Examples {
		rec, err := s.get(ctx, s.r, key)
		if err != nil {
			return nil, false, &storeError{err}
		}
		if all.Examples[i], err = s.pathOf(ctx, s.r, &rec, &rec); err != nil {
			return nil, false, err
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.waiting.AddAll(all)
	return items, true, nil
}

// exceeds reports whether missing items are more than the limit. A complete scan counts anew what partial scans found.
func (s *scan) exceeds(missing int64) bool {
	s.mu.Lock()
	seen := s.done.Entries
	s.mu.Unlock()
	s.Engine.mu.Lock()
	defer s.Engine.mu.Unlock()
	wait := s.r.RemovalsWait && (s.shallow || !s.r.removalsInPart)
	return s.exceed(s.r, wait, missing, max(seen, s.r.Entries-missing))
}

// exceed reports whether removals are pending: earlier ones are, or these are too many compared with the items that are left. e.mu must
// be held.
func (e *Engine) exceed(r *Replica, wait bool, missing, left int64) bool {
	return missing > 0 && wait || r.Removals.Exceeds(e.Now(), missing, left)
}

// passRemovals counts items whose removal was recorded. What is not recorded now, since a lane is at work there, is found missing again.
func (e *Engine) passRemovals(r *Replica, items int64) {
	e.mu.Lock()
	defer e.mu.Unlock()
	r.Removals.Pass(e.Now(), items)
}

// waitsWith reports whether the removal of the files of a missing folder is pending.
func (e *Engine) waitsWith(ctx context.Context, r *Replica, folder *replica.Record) (bool, error) {
	if folder.Kind != replica.Folder || r.Removals.Percent == 0 || !e.scanned(r) {
		return false, nil
	}
	missing, err := e.missing(ctx, r, []replica.Record{*folder})
	if err != nil {
		return false, err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.exceed(r, r.RemovalsWait, missing[0].Items, r.Entries-missing[0].Items) {
		return true, nil
	}
	r.Removals.Pass(e.Now(), missing[0].Items)
	return false, nil
}

// missing counts, for each record of a missing path, the file or the files below it. Renamed files and files outside the set do
// not count.
func (e *Engine) missing(ctx context.Context, r *Replica, records []replica.Record) ([]replica.Removals, error) {
	missing := make([]replica.Removals, len(records))
	moved, err := e.moved(ctx, r, records)
	if err != nil {
		return nil, err
	}
	for i := range records {
		rec := &records[i]
		switch {
		case rec.Pending != nil, rec.Prior(), moved[rec.Key]:
		case rec.Kind == replica.File:
			missing[i].Add(rec)
		case rec.Kind == replica.Folder:
			if missing[i], err = e.missingBelow(ctx, r, rec.Key); err != nil {
				return nil, err
			}
		}
	}
	return missing, nil
}

// missingBelow adds up the files below a folder that is gone. The folder counts with them.
func (e *Engine) missingBelow(ctx context.Context, r *Replica, folder string) (all replica.Removals, err error) {
	children, err := e.Store.Children(ctx, r.ID, folder)
	if err != nil {
		return all, &storeError{err}
	}
	missing, err := e.missing(ctx, r, children)
	for _, m := range missing {
		all.AddAll(m)
	}
	if all.Items > 0 {
		all.Items++
	}
	return all, err
}

// moved returns the keys of files that are at another path now, as their numbers tell.
func (e *Engine) moved(ctx context.Context, r *Replica, records []replica.Record) (map[string]bool, error) {
	were := map[uint64][]*replica.Record{}
	var ids []uint64
	for i := range records {
		if rec := &records[i]; rec.Kind == replica.File && rec.Seen.ID != 0 {
			were[rec.Seen.ID] = append(were[rec.Seen.ID], rec)
			ids = append(ids, rec.Seen.ID)
		}
	}
	if len(ids) == 0 {
		return nil, nil
	}
	others, err := e.Store.ByFile(ctx, r.ID, ids...)
	if err != nil {
		return nil, &storeError{err}
	}
	moved := map[string]bool{}
	for i := range others {
		o := &others[i]
		for _, rec := range were[o.Seen.ID] {
			if o.Key != rec.Key && o.Moved == rec.Key && o.Kind == replica.File && o.Size == rec.Size {
				moved[rec.Key] = true
			}
		}
	}
	return moved, nil
}

// reviveFor lets what is gone at a replica count as changed where it may come from: then it wins against the removal. That is one
// other replica for each path, with the content if one of them has it.
func (e *Engine) reviveFor(ctx context.Context, r *Replica, gone []replica.Record) error {
	h := e.newHold()
	defer h.release()
	left := map[string]bool{}
	for i := range gone {
		left[gone[i].Key] = true
	}
	for _, stubs := range []bool{false, true} {
		for _, l := range e.into(r) {
			if err := e.reviveAt(ctx, h, e.replica(l.From), left, stubs); err != nil {
				return err
			}
		}
	}
	return nil
}

// reviveAt revives what it can of the keys that are left, and takes them away. Files of which only a stub is there are left, unless
// stubs is true.
func (e *Engine) reviveAt(ctx context.Context, h *hold, o *Replica, left map[string]bool, stubs bool) error {
	if len(left) == 0 {
		return nil
	}
	records, err := e.Store.Get(ctx, o.ID, slices.Sorted(maps.Keys(left))...)
	if err != nil {
		return &storeError{err}
	}
	var revived []replica.Record
	for _, rec := range records {
		if rec.Kind == replica.None || rec.Prior() {
			continue
		}
		if rec.Pending != nil || !h.change(o, rec.Key) {
			return errBusy
		}
		name, err := e.pathOf(ctx, o, &rec, &rec)
		if err != nil {
			return err
		}
		if !stubs && rec.Kind == replica.File {
			stub, err := isStub(ctx, o, name)
			if err != nil {
				return err
			}
			if stub {
				continue
			}
		}
		rec.Content.Version = rec.Version.Advance(o.ID)
		rec.Content.Changed, rec.Content.By = e.Now(), o.ID
		revived = append(revived, rec)
		delete(left, rec.Key)
	}
	if len(revived) == 0 {
		return nil
	}
	return e.save(ctx, replica.Change{Replica: o.ID, Records: revived, Queue: e.toTell(o)})
}

// tellRemovals reports the pending removals after a scan. A complete scan reports all of them, and ends the decision.
func (s *scan) tellRemovals(all bool) {
	s.mu.Lock()
	waiting := s.waiting
	s.mu.Unlock()
	s.Engine.mu.Lock()
	before := s.r.RemovalsWait
	switch {
	case !all:
		s.r.RemovalsWait = before || waiting.Items > 0
		s.r.removalsInPart = s.r.removalsInPart || !before
	case s.decision == replica.Undecided:
		s.r.RemovalsWait = waiting.Items > 0
	case s.done.Busy == 0: // else the next look does the rest
		waiting, s.r.RemovalsWait = replica.Removals{}, false
	}
	if !s.r.RemovalsWait { // no decision is kept for other removals
		s.r.Decision = replica.Undecided
	}
	if all {
		s.r.removalsInPart = false
		s.r.Entries = s.done.Entries + waiting.Items
		waiting.Of = s.r.Entries
	}
	now := s.r.RemovalsWait
	s.Engine.mu.Unlock()
	if s.RemovalsWait != nil && (before != now || now && all) {
		s.RemovalsWait(s.r.ID, waiting)
	}
}
