package replication

import (
	"context"
	"fmt"
	"maps"
	"path"
	"slices"

	"bridgespan/core/replica"
	"bridgespan/tree"
)

// Scanned is what a scan did.
type Scanned struct {
	Entries int64 // files and folders seen
	Changed int64 // of which people changed something, removals too
	Trouble int64 // that could not be looked at; they count as unchanged
}

// Scan looks at all of a replica and puts what people changed there into its
// records and into the backlogs of the lanes that lead away. What cannot be read
// is told to Trouble and left as it was; only a record that cannot be kept, a top
// that cannot be listed, or ErrNotReplica ends the scan.
func (e *Engine) Scan(ctx context.Context, id replica.ID) (Scanned, error) {
	s := &scan{Engine: e, r: e.replica(id)}
	if err := e.identify(ctx, s.r); err != nil {
		return s.done, err
	}
	if err := e.Settle(ctx, id); err != nil {
		return s.done, err
	}
	if err := s.folder(ctx, ".", "."); err != nil {
		return s.done, err
	}
	if s.r.Scanned = true; s.r.Seed {
		s.r.Filled = true
	}
	return s.done, nil
}

type scan struct {
	*Engine
	r    *Replica
	done Scanned
}

func (s *scan) trouble(path string, err error) {
	s.done.Trouble++
	s.Engine.trouble(s.r, path, err)
}

// folder looks at what is right in a folder, saves that, and goes on below.
func (s *scan) folder(ctx context.Context, name, key string) error {
	records, err := s.Store.Children(ctx, s.r.ID, key)
	if err != nil {
		return err
	}
	known := make(map[string]replica.Record, len(records))
	for _, rec := range records {
		known[rec.Key] = rec
	}
	entries, err := s.list(ctx, name, known)
	if err != nil {
		if name == "." || ctx.Err() != nil {
			return fmt.Errorf("list %s: %w", s.r.Name, err)
		}
		if !absent(err) { // what is gone is found with the folder above, at the next scan
			s.trouble(name, err)
		}
		return nil
	}
	var changed []replica.Record
	var below [][2]string
	for _, entry := range entries {
		child := keyOf(path.Join(name, entry.Name))
		rec, ok := known[child]
		if !ok {
			rec.Key = child
		}
		delete(known, child)
		s.done.Entries++
		now, news, err := s.entry(ctx, path.Join(name, entry.Name), rec, entry)
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil:
			s.trouble(path.Join(name, entry.Name), err)
			continue
		case news:
			s.done.Changed++
			changed = append(changed, now)
		case now.Seen != rec.Seen:
			changed = append(changed, now)
		}
		if now.Kind == replica.Folder {
			below = append(below, [2]string{path.Join(name, entry.Name), child})
		}
	}
	if err := s.save(ctx, changed); err != nil {
		return err
	}
	if err := s.gone(ctx, name, known); err != nil {
		return err
	}
	for _, b := range below {
		if err := s.folder(ctx, b[0], b[1]); err != nil {
			return err
		}
	}
	return nil
}

// entry looks at one entry.
func (s *scan) entry(ctx context.Context, name string, rec replica.Record, entry tree.Entry) (replica.Record, bool, error) {
	if rec.Pending != nil { // it could not be settled
		return rec, false, nil
	}
	now, changed, err := s.note(ctx, s.r, name, rec, entry)
	if absent(err) {
		return rec, false, nil
	}
	if err != nil || now.Kind == rec.Kind || rec.Kind != replica.Folder {
		return now, changed, err
	}
	return now, changed, s.emptied(ctx, rec.Key) // a folder that became a file: nothing is below it any more
}

// list lists a folder: one entry for each key, the known spelling first.
func (s *scan) list(ctx context.Context, name string, known map[string]replica.Record) ([]tree.Entry, error) {
	var entries []tree.Entry
	at := map[string]int{}
	for entry, err := range s.r.Tree.List(ctx, name, tree.WithDescriptors) {
		if entry.Name == "" && err != nil {
			return nil, err
		}
		if own(entry.Name) {
			continue
		}
		key := keyOf(path.Join(name, entry.Name))
		if err != nil { // its permissions cannot be read
			s.trouble(path.Join(name, entry.Name), err)
			entry.Kind = tree.Other
		}
		i, twice := at[key]
		if !twice {
			at[key] = len(entries)
			entries = append(entries, entry)
			continue
		}
		if known[key].Name == entry.Name {
			entries[i], entry = entry, entries[i]
		}
		s.trouble(path.Join(name, entry.Name), fmt.Errorf("%w: %s", errClash, entries[i].Name))
	}
	return entries, nil
}

// save keeps records of what changed, and puts them into the backlogs.
func (s *scan) save(ctx context.Context, changed []replica.Record) error {
	if len(changed) == 0 {
		return nil
	}
	return s.Store.Save(ctx, replica.Change{Replica: s.r.ID, Records: changed, Queue: s.toTell(s.r)})
}

// toTell are the lanes that are to look at what changed at a replica. What a replica held
// before is a matter for the lanes that fill it.
func (e *Engine) toTell(r *Replica) []replica.Lane {
	lanes := e.outOf(r, 0)
	if !r.Filled {
		lanes = append(lanes, e.into(r)...)
	}
	return lanes
}

// gone looks once more for what was not listed, and notes that it is not there.
func (s *scan) gone(ctx context.Context, name string, left map[string]replica.Record) error {
	var changed []replica.Record
	for _, key := range slices.Sorted(maps.Keys(left)) {
		rec := left[key]
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
			if err := s.emptied(ctx, key); err != nil {
				return err
			}
		}
		if s.noteRemoved(s.r, &rec) {
			s.done.Changed++
			changed = append(changed, rec)
		}
	}
	return s.save(ctx, changed)
}

// emptied notes that everything below a folder that is gone is gone.
func (s *scan) emptied(ctx context.Context, key string) error {
	records, err := s.Store.Children(ctx, s.r.ID, key)
	if err != nil {
		return err
	}
	var changed []replica.Record
	for _, rec := range records {
		if rec.Kind == replica.Folder {
			if err := s.emptied(ctx, rec.Key); err != nil {
				return err
			}
		}
		if s.noteRemoved(s.r, &rec) {
			s.done.Changed++
			changed = append(changed, rec)
		}
	}
	return s.save(ctx, changed)
}
