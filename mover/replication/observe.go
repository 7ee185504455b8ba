package replication

import (
	"cmp"
	"context"
	"errors"
	"path"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/replica"
	"bridgespan/tree"
)

// look reads what is at a path, with its permissions. found is false when nothing is.
func (e *Engine) look(ctx context.Context, r *Replica, path string) (entry tree.Entry, found bool, err error) {
	entry, err = r.Tree.Stat(ctx, path)
	if err == nil {
		entry.Descriptor, err = e.descriptor(ctx, r, path)
	}
	if absent(err) {
		return entry, false, nil
	}
	return entry, err == nil, err
}

// descriptor reads who may do what with what is at a path, where that is carried.
func (e *Engine) descriptor(ctx context.Context, r *Replica, path string) (acl.Descriptor, error) {
	if e.LeavePermissions || !r.Tree.Capabilities().Descriptors {
		return acl.Descriptor{}, nil
	}
	return r.Tree.Descriptor(ctx, path)
}

// observe compares what is at a path with its record, and returns the record as
// it is now, and whether people changed something. Nothing may be pending. The
// record is not saved. id is the number that a listing gave, where trees tell it
// only there; 0 when there was none.
func (e *Engine) observe(ctx context.Context, r *Replica, path string, rec replica.Record, id uint64) (replica.Record, bool, error) {
	entry, found, err := e.look(ctx, r, path)
	if err != nil {
		return rec, false, err
	}
	if !found {
		release, err := e.standing(ctx, r, rec.Key, path)
		if err != nil {
			return rec, false, err
		}
		defer release()
		if _, found, err = e.look(ctx, r, path); err != nil || found {
			return rec, false, cmp.Or(err, errLater)
		}
		if wait, err := e.waitsWith(ctx, r, &rec); err != nil || wait {
			return rec, false, cmp.Or(err, errLater)
		}
		changed := e.noteRemoved(r, &rec)
		return rec, changed, nil
	}
	entry.ID = cmp.Or(entry.ID, id)
	if above := parentKey(rec.Key); rec.Kind == replica.None && above != "." {
		// What is new in a folder that nobody knows of would be forgotten with it.
		folder, err := e.folderRecord(ctx, r, above)
		if err != nil || folder.Kind != replica.Folder {
			return rec, false, cmp.Or(err, errLater)
		}
	}
	return e.note(ctx, r, path, rec, entry, nil)
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

// note puts into a record what is at its path. were is where files were before,
// if that was asked already.
func (e *Engine) note(ctx context.Context, r *Replica, path string, rec replica.Record, entry tree.Entry, were origins) (replica.Record, bool, error) {
	kind := kindOf(entry)
	if kind == replica.None {
		return rec, false, errKind
	}
	if e.dropped(r, &rec, entry) {
		var err error
		if entry, err = e.setAgain(ctx, r, path, &rec, entry); err != nil {
			return rec, false, err
		}
	}
	seen := e.seenOf(entry)
	begins := r.begins(&rec)
	prior := rec.Prior() && !begins || rec.Kind == replica.None && len(rec.Version) == 0 && !r.Seed && !e.scanned(r)
	now := replica.Content{Kind: kind, Name: entry.Name, Changed: e.Now(), By: r.ID}
	if kind == replica.File {
		now.Size, now.Modified = entry.Size, entry.Modified
		if entry.Modified.Before(now.Changed) {
			now.Changed = entry.Modified
		}
		if asKept(&rec, entry) {
			now.Digest = rec.Digest
		} else if err := e.content(ctx, r, path, &rec, &now, &entry, were); err != nil {
			return rec, false, err
		}
	}
	changed := begins || !sameThere(&rec, &now, seen)
	if changed {
		now.Version = rec.Version
		if !prior {
			now.Version = now.Version.Advance(r.ID)
		}
		rec.Content = now
	}
	if p := &rec.Permissions; begins || seen.Descriptor != rec.Seen.Descriptor || seen.Attributes != rec.Seen.Attributes {
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

// dropped reports whether permissions are missing that nobody has removed: clients of an object store know
// nothing of them when they replace an object, and a folder without an object has none.
func (e *Engine) dropped(r *Replica, rec *replica.Record, entry tree.Entry) bool {
	return r.Tree.Capabilities().PassiveDescriptors && !e.LeavePermissions && rec.Kind == kindOf(entry) &&
		entry.Descriptor.IsZero() && !rec.Permissions.Descriptor.IsZero()
}

// setAgain sets the permissions of a record at a path, and returns what is there then.
func (e *Engine) setAgain(ctx context.Context, r *Replica, path string, rec *replica.Record, entry tree.Entry) (tree.Entry, error) {
	meta := e.metaOf(r, rec)
	if meta.Modified = entry.Modified; entry.Kind == tree.Folder {
		meta.Modified = time.Time{}
	}
	if err := e.endpoint(r).Apply(ctx, path, meta); err != nil {
		return entry, err
	}
	after, found, err := e.look(ctx, r, path)
	if err == nil && (!found || after.Kind != entry.Kind || after.Size != entry.Size || !after.Modified.Equal(entry.Modified) && entry.Kind == tree.File) {
		err = errLater
	}
	return after, err
}

// mostImplied bounds how many folders one scan makes again.
const mostImplied = 10_000

// noteImplied notes a folder of an object store that no object stands for.
func (s *scan) noteImplied(name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.implied) < mostImplied {
		s.implied = append(s.implied, keyOf(name))
	}
}

// makeAgain sets the permissions of folders again that lost their objects.
func (s *scan) makeAgain(ctx context.Context) error {
	for _, key := range s.implied {
		err := s.makeOneAgain(ctx, key)
		switch {
		case fatal(ctx, err):
			return err
		case err != nil && !errors.Is(err, errLater) && !absent(err):
			s.trouble(key, err)
		}
	}
	return nil
}

func (s *scan) makeOneAgain(ctx context.Context, key string) error {
	h := s.newHold()
	defer h.release()
	if !h.change(s.r, key) {
		return errBusy
	}
	rec, err := s.get(ctx, s.r, key)
	if err != nil || rec.Pending != nil || rec.Permissions.Descriptor.IsZero() {
		return err
	}
	name, err := s.pathOf(ctx, s.r, &rec, &rec)
	if err != nil {
		return err
	}
	entry, found, err := s.look(ctx, s.r, name)
	if err == nil && found && s.dropped(s.r, &rec, entry) {
		_, err = s.setAgain(ctx, s.r, name, &rec, entry)
	}
	return err
}

// begins reports whether a record is of something that does not belong to the set yet,
// and does once it is looked at: it is at the seed, which was not always the seed, and
// could not be given what the set had when another one was.
func (r *Replica) begins(rec *replica.Record) bool { return r.Seed && rec.Prior() }

// content finds out what is in a file that is not as its record has seen it: as
// little of it as is needed now. What is new is read when it is carried.
func (e *Engine) content(ctx context.Context, r *Replica, path string, rec *replica.Record, now *replica.Content, entry *tree.Entry, were origins) error {
	from, err := e.movedFrom(ctx, r, rec.Key, *entry, were)
	switch {
	case err != nil:
		return err
	case from != nil:
		now.Digest, now.Moved = from.Digest, from.Key
	case entry.Size == 0:
		now.Digest = emptyDigest
	case rec.Kind == replica.File && entry.Size == rec.Seen.Size && entry.Modified.Equal(rec.Seen.Modified):
		// Another file with the same length and time: it may hold the same.
		seen := *entry
		now.Digest, *entry, err = digest(ctx, r.Tree, path)
		entry.Descriptor, entry.Attributes, entry.Name = seen.Descriptor, seen.Attributes, seen.Name
	}
	return err
}

// sameThere reports whether a replica holds what its record says: times as the
// replica itself showed them then.
func sameThere(rec *replica.Record, now *replica.Content, seen replica.Seen) bool {
	if rec.Kind != now.Kind || rec.Name != now.Name {
		return false
	}
	return rec.Kind != replica.File || rec.Size == now.Size && rec.Digest == now.Digest && seen.Modified.Equal(rec.Seen.Modified)
}

// origins are the records of files and folders by the numbers that they had.
type origins map[uint64][]replica.Record

// origins asks at once where the files among candidates were before.
func (s *scan) origins(ctx context.Context, look []*candidate) (origins, error) {
	were := origins{}
	if !s.scanned(s.r) { // at the first look nothing was anywhere before
		return were, nil
	}
	var ids []uint64
	for _, c := range look {
		if c.entry.ID != 0 && (c.entry.Kind == tree.File || c.rec.Kind != replica.Folder) {
			ids = append(ids, c.entry.ID)
		}
	}
	if len(ids) == 0 {
		return were, nil
	}
	records, err := s.Store.ByFile(ctx, s.r.ID, ids...)
	for _, rec := range records {
		were[rec.Seen.ID] = append(were[rec.Seen.ID], rec)
	}
	for _, c := range look {
		for _, rec := range were[c.entry.ID] {
			if rec.Key != c.rec.Key && rec.Kind == kindOf(c.entry) { // it was moved, or has hard links
				s.suspect(s.r.ID, rec.Key, foundTwice)
			}
		}
	}
	return were, err
}

// movedFrom finds what a file that is new at its path was before: a file with
// the same number, length and time, which need not be read again. Numbers are used
// again: among files that were unpacked, with one length and time, another one may have
// that of one that is gone. So it must be in the same folder, or have the same name.
func (e *Engine) movedFrom(ctx context.Context, r *Replica, key string, entry tree.Entry, were origins) (*replica.Record, error) {
	if entry.ID == 0 || !e.scanned(r) {
		return nil, nil
	}
	others := were[entry.ID]
	if were == nil {
		var err error
		if others, err = e.Store.ByFile(ctx, r.ID, entry.ID); err != nil {
			return nil, &storeError{err}
		}
	}
	for _, o := range others {
		if asKept(&o, entry) && (parentKey(o.Key) == parentKey(key) || path.Base(o.Key) == path.Base(key)) {
			return &o, nil
		}
	}
	return nil, nil
}
