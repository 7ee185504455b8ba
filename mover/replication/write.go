package replication

import (
	"context"
	"errors"
	"path"

	"bridgespan/core/replica"
	"bridgespan/tree"
)

// write brings a file.
func (m *move) write(ctx context.Context, next replica.Record) error {
	r := m.carry.to
	name := path.Join(path.Dir(m.here), next.Name)
	switch {
	case m.to.SameBytes(&m.from.Content): // only its name, time or permissions
		if err := m.begin(ctx, next, "", ""); err != nil {
			return err
		}
		if err := respell(ctx, r, m.here, name); err != nil {
			return err
		}
		return m.end(ctx, name, next, "", "", nil)
	case m.to.Kind == replica.None && m.from.Moved != "":
		done, err := m.rename(ctx, name, next)
		if done || err != nil {
			return err
		}
	case m.to.Kind == replica.Folder:
		if err := m.emptyFolder(ctx); err != nil {
			return err
		}
	}
	staged := intakeFolder + "/" + m.Unique()
	attic := ""
	if m.v.Spare {
		var err error
		if attic, err = m.atticFor(ctx); err != nil {
			return err
		}
	}
	brought, err := m.transfer(ctx, staged, &next)
	if err != nil {
		return err
	}
	if err := m.begin(ctx, next, staged, attic); err != nil {
		return errors.Join(err, r.Tree.Remove(ctx, staged))
	}
	if err := m.place(ctx, staged, attic, name); err != nil {
		return err
	}
	m.done.Files++
	m.done.Bytes += next.Size
	return m.end(ctx, name, next, staged, attic, &brought)
}

// place puts what waits in the intake where it belongs.
func (m *move) place(ctx context.Context, staged, attic, name string) error {
	r := m.carry.to
	// Bringing it took a while.
	ok, err := unchanged(ctx, r, m.here, &m.to)
	if err == nil && !ok {
		err = errMoved
	}
	if err != nil {
		return errors.Join(err, m.takeBack(ctx, r, replica.Record{Key: m.to.Key, Content: m.to.Content, Permissions: m.to.Permissions, Seen: m.to.Seen, Pending: &replica.Pending{Staged: staged}}, false))
	}
	switch {
	case attic != "":
		if err := r.Tree.Rename(ctx, m.here, attic, false); err != nil {
			return err
		}
	case m.to.Kind == replica.Folder:
		if err := m.removeFolder(ctx); err != nil {
			return err
		}
	}
	if m.to.Kind != replica.File || attic != "" {
		return r.Tree.Rename(ctx, staged, name, false)
	}
	if err := respell(ctx, r, m.here, name); err != nil {
		return err
	}
	return m.replace(ctx, staged, name)
}

// replace puts what waits where an older version is. What is replaced is known
// to be that version, as far as the tree lets us tell.
func (m *move) replace(ctx context.Context, staged, name string) error {
	t := m.carry.to.Tree
	if x, ok := t.(tree.Exchanger); ok {
		// What was replaced is looked at, and goes, when all is noted.
		if err := x.Exchange(ctx, staged, name); !errors.Is(err, tree.ErrUnsupported) {
			return err
		}
	}
	return t.Rename(ctx, staged, name, true)
}

// transfer brings the content into the receiver's intake.
func (m *move) transfer(ctx context.Context, staged string, next *replica.Record) (tree.Entry, error) {
	content, err := m.carry.from.Tree.Open(ctx, m.there)
	if absent(err) {
		err = errMoved
	}
	if err != nil {
		return tree.Entry{}, err
	}
	defer content.Close()
	stream := tree.Stream(ctx, content, 0)
	defer stream.Close()
	r := m.carry.to
	if err := tree.MkdirAll(ctx, r.Tree, intakeFolder); err != nil {
		return tree.Entry{}, err
	}
	meta := metaOf(r, next)
	if _, err := r.Tree.Put(ctx, staged, newChecked(stream, next.Digest), tree.PutOptions{Size: next.Size, SizeKnown: true, Meta: meta}); err != nil {
		return tree.Entry{}, err
	}
	// What the replica makes of it is looked at now: afterwards people may change it.
	entry, _, err := look(ctx, r, staged)
	return entry, err
}

// rename carries a rename as one: when the receiver still has the file under
// its old name, and is to lose it there.
func (m *move) rename(ctx context.Context, name string, next replica.Record) (bool, error) {
	r := m.carry.to
	old, err := m.get(ctx, r, m.from.Moved)
	if err != nil {
		return false, err
	}
	sender, err := m.get(ctx, m.carry.from, m.from.Moved)
	if err != nil || !old.SameBytes(&m.from.Content) || sender.Kind != replica.None {
		return false, err
	}
	v := replica.Decide(&sender, &old)
	if v.Content != replica.Take || old.Prior() {
		return false, nil
	}
	was, err := m.pathOf(ctx, r, &old, &sender)
	if err != nil {
		return false, err
	}
	if ok, err := unchanged(ctx, r, was, &old); err != nil || !ok {
		return false, err
	}
	leaving := &move{carry: m.carry, from: sender, to: old, v: v, there: was, here: was}
	gone := leaving.next()
	begun, leaves := m.to, old
	begun.Pending = &replica.Pending{Content: next.Content, Permissions: next.Permissions}
	leaves.Pending = &replica.Pending{Content: gone.Content, Permissions: gone.Permissions}
	if err := m.save(ctx, replica.Change{Replica: r.ID, Records: []replica.Record{begun, leaves}}); err != nil {
		return false, err
	}
	if err := r.Tree.Rename(ctx, was, name, false); err != nil {
		return false, err
	}
	if err := m.end(ctx, name, next, "", "", nil); err != nil {
		return true, err
	}
	return true, leaving.end(ctx, was, gone, "", "", nil)
}
