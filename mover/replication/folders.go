package replication

import (
	"context"
	"errors"
	"io/fs"
	"path"

	"bridgespan/core/replica"
	"bridgespan/tree"
)

// parent makes the folder that a path is in, when the receiver lacks it.
func (e *task) parent(ctx context.Context, key string, depth int) error {
	above := parentKey(key)
	if above == "." {
		return nil
	}
	// Nobody may note that the folder is gone before what comes into it is noted.
	if !e.rely(e.carry.to, above) {
		return errBusy
	}
	rec, err := e.folderRecord(ctx, e.carry.to, above)
	if err != nil || rec.Kind == replica.Folder && rec.Pending == nil {
		return err
	}
	if rec, err = e.record(ctx, e.carry.to, above); err != nil || rec.Kind == replica.Folder {
		return err
	}
	sender, err := e.record(ctx, e.carry.from, above)
	if err != nil {
		return err
	}
	if sender.Kind != replica.Folder || depth > maxDepth {
		return later("the folder " + above + " is not in the sender's records")
	}
	v := replica.Decide(&sender, &rec)
	if v.Content == replica.Take {
		return e.path(ctx, above, depth+1)
	}
	// The receiver removed it, or made a file of it, and does not know of what is
	// new in it: a folder lives on while it holds anything that does.
	return e.revive(ctx, e.carry.from, sender, rec)
}

// maxDepth bounds how many folders are made for one path.
const maxDepth = 1024

// revive makes a folder's version one that beats the removal at the other end,
// and waits for it to get there.
func (e *task) revive(ctx context.Context, r *Replica, rec, other replica.Record) error {
	if !e.change(r, rec.Key) {
		return errBusy
	}
	rec.Content.Version = rec.Version.Join(other.Version).Advance(r.ID)
	rec.Content.Changed, rec.Content.By = e.Now(), r.ID
	rec.Permissions.Version = rec.Permissions.Version.Join(other.Permissions.Version)
	if err := e.save(ctx, replica.Change{Replica: r.ID, Records: []replica.Record{rec}, Queue: e.toTell(r)}); err != nil {
		return err
	}
	return later("the folder " + rec.Key + " lives on, and has to be carried")
}

// emptyFolder returns nil when nothing lives in a folder that is to go.
func (m *move) emptyFolder(ctx context.Context) error {
	children, err := m.Store.Children(ctx, m.carry.to.ID, m.to.Key)
	if err != nil {
		return &storeError{err}
	}
	for _, child := range children {
		if child.Kind == replica.None {
			continue
		}
		sender, err := m.record(ctx, m.carry.from, child.Key)
		if err != nil {
			return err
		}
		if v := replica.Decide(&sender, &child); sender.Kind == replica.None && v.Content == replica.Take {
			return later(child.Key + " has to be removed before its folder")
		}
		return m.revive(ctx, m.carry.to, m.to, m.from)
	}
	return nil
}

// removeFolder removes a folder in which nothing is known. When something is
// there after all, it is looked at, and the folder lives on with it.
func (m *move) removeFolder(ctx context.Context) error {
	r := m.carry.to
	err := r.Tree.Remove(ctx, m.here)
	if err == nil || absent(err) {
		return nil
	}
	if !errors.Is(err, tree.ErrNotEmpty) {
		return err
	}
	if err := m.save(ctx, replica.Change{Replica: r.ID, Records: []replica.Record{m.to}}); err != nil { // nothing is pending any more
		return err
	}
	s := m.newScan(r.ID)
	err = s.folder(ctx, someFolder{name: m.here, key: m.to.Key, held: true})
	if err == nil {
		err = s.gone(ctx)
	}
	if err != nil {
		return &storeError{err}
	}
	if s.done.Changed == 0 && s.done.Busy == 0 { // what is in it cannot be carried; it cannot be thrown away either
		return m.revive(ctx, r, m.to, m.from)
	}
	return later("the folder " + m.here + " turned out to hold something")
}

// makeFolder makes a folder, or spells one as the sender does.
func (m *move) makeFolder(ctx context.Context, next replica.Record) error {
	r := m.carry.to
	name := path.Join(path.Dir(m.here), next.Name)
	attic := ""
	if m.to.Kind == replica.File {
		var err error
		if attic, err = m.atticFor(ctx); err != nil {
			return err
		}
	}
	if err := m.begin(ctx, next, "", attic); err != nil {
		return err
	}
	switch m.to.Kind {
	case replica.Folder:
		if err := respell(ctx, r, m.here, name); err != nil {
			return err
		}
		return m.end(ctx, name, next, "", "", nil)
	case replica.File:
		if err := r.Tree.Rename(ctx, m.here, attic, false); err != nil {
			return err
		}
	}
	if err := r.Tree.Mkdir(ctx, name); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return m.end(ctx, name, next, "", attic, nil)
}

// respell writes a name otherwise.
func respell(ctx context.Context, r *Replica, from, to string) error {
	if from == to {
		return nil
	}
	return r.Tree.Rename(ctx, from, to, false)
}
