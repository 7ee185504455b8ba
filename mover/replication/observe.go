package replication

import (
	"context"

	"bridgespan/core/replica"
	"bridgespan/tree"
)

// look reads what is at a path, with its permissions. found is false when nothing is.
func look(ctx context.Context, r *Replica, path string) (e tree.Entry, found bool, err error) {
	e, err = r.Tree.Stat(ctx, path)
	if absent(err) {
		return e, false, nil
	}
	if err == nil && r.Tree.Capabilities().Descriptors {
		e.Descriptor, err = r.Tree.Descriptor(ctx, path)
		if absent(err) {
			return e, false, nil
		}
	}
	return e, err == nil, err
}

// observe compares what is at a path with its record, and returns the record as
// it is now, and whether people changed something. Nothing may be pending. The
// record is not saved.
func (e *Engine) observe(ctx context.Context, r *Replica, path string, rec replica.Record) (replica.Record, bool, error) {
	entry, found, err := look(ctx, r, path)
	if err != nil {
		return rec, false, err
	}
	if !found {
		changed := e.noteRemoved(r, &rec)
		return rec, changed, nil
	}
	return e.note(ctx, r, path, rec, entry)
}

// noteRemoved puts into a record that nothing is there any more.
func (e *Engine) noteRemoved(r *Replica, rec *replica.Record) bool {
	if rec.Kind == replica.None {
		return false
	}
	if rec.Prior() { // it never belonged to the set
		*rec = replica.Record{Key: rec.Key, Content: replica.Content{Name: rec.Name}}
		return true
	}
	rec.Content = replica.Content{Version: rec.Version.Advance(r.ID), Name: rec.Name, Changed: e.Now(), By: r.ID}
	rec.Seen = replica.Seen{}
	return true
}

// note puts into a record what is at its path.
func (e *Engine) note(ctx context.Context, r *Replica, path string, rec replica.Record, entry tree.Entry) (replica.Record, bool, error) {
	kind := kindOf(entry)
	if kind == replica.None {
		return rec, false, errKind
	}
	seen := seenOf(entry)
	prior := rec.Prior() || rec.Kind == replica.None && len(rec.Version) == 0 && !r.Scanned && !r.Seed
	now := replica.Content{Kind: kind, Name: entry.Name, Changed: e.Now(), By: r.ID}
	if kind == replica.File {
		now.Size, now.Modified = entry.Size, entry.Modified
		if entry.Modified.Before(now.Changed) {
			now.Changed = entry.Modified
		}
		if asKept(&rec, entry) {
			now.Digest = rec.Digest
		} else {
			from, err := e.movedFrom(ctx, r, entry)
			if err != nil {
				return rec, false, err
			}
			if from != nil {
				now.Digest, now.Moved = from.Digest, from.Key
			} else if now.Digest, entry, err = digest(ctx, r.Tree, path); err != nil {
				return rec, false, err
			}
		}
	}
	changed := !sameThere(&rec, &now, seen)
	if changed {
		now.Version = rec.Version
		if !prior {
			now.Version = now.Version.Advance(r.ID)
		}
		rec.Content = now
	}
	if p := &rec.Permissions; seen.Descriptor != rec.Seen.Descriptor || seen.Attributes != rec.Seen.Attributes {
		next := replica.Permissions{Version: p.Version, Descriptor: seen.Descriptor, Attributes: seen.Attributes, Changed: e.Now(), By: r.ID}
		if !prior {
			next.Version = next.Version.Advance(r.ID)
		}
		rec.Permissions = next
		changed = true
	}
	rec.Seen = seen
	return rec, changed, nil
}

// sameThere reports whether a replica holds what its record says: times as the
// replica itself showed them then.
func sameThere(rec *replica.Record, now *replica.Content, seen replica.Seen) bool {
	if rec.Kind != now.Kind || rec.Name != now.Name {
		return false
	}
	return rec.Kind != replica.File || rec.SameBytes(now) && seen.Modified.Equal(rec.Seen.Modified)
}

// movedFrom finds what a file that is new at its path was before: a file with
// the same number, length and time, which need not be read again.
func (e *Engine) movedFrom(ctx context.Context, r *Replica, entry tree.Entry) (*replica.Record, error) {
	if entry.ID == 0 || !r.Scanned { // at the first look nothing was anywhere before
		return nil, nil
	}
	others, err := e.Store.ByFile(ctx, r.ID, entry.ID)
	if err != nil {
		return nil, err
	}
	for _, o := range others {
		if asKept(&o, entry) {
			return &o, nil
		}
	}
	return nil, nil
}
