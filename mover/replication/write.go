package replication

import (
	"context"
	"errors"
	"io/fs"
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
	staged := m.intakeOfRun() + "/" + m.Unique()
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
	left, err := m.place(ctx, &next, staged, attic, name)
	if err != nil {
		return err
	}
	if err := m.end(ctx, name, next, left, attic, &brought); err != nil {
		return err
	}
	m.count(func(c *Carried) { c.Files, c.Bytes = c.Files+1, c.Bytes+next.Size })
	return nil
}

// place puts what waits in the intake where it belongs. left is where what was
// there waits now, if anywhere.
func (m *move) place(ctx context.Context, next *replica.Record, staged, attic, name string) (left string, err error) {
	r := m.carry.to
	if !m.brings() { // bringing it took a while
		ok, err := unchanged(ctx, r, m.here, &m.to)
		if err == nil && !ok {
			err = errMoved
		}
		if err != nil {
			return "", errors.Join(err, m.leave(ctx, next, staged))
		}
	}
	switch {
	case attic != "":
		if err := r.Tree.Rename(ctx, m.here, attic, false); err != nil {
			return "", err
		}
	case m.to.Kind == replica.Folder:
		if err := m.removeFolder(ctx); err != nil {
			return "", err
		}
	}
	if m.to.Kind != replica.File || attic != "" {
		err := r.Tree.Rename(ctx, staged, name, false)
		if errors.Is(err, fs.ErrExist) && m.brings() { // somebody was quicker
			if err := m.leave(ctx, next, staged); err != nil {
				return "", err
			}
			return "", m.changed(ctx, r, m.here, m.to)
		}
		return "", err
	}
	if err := respell(ctx, r, m.here, name); err != nil {
		return "", err
	}
	return m.replace(ctx, staged, name)
}

// leave gives up what waits in the intake, before anything was changed.
func (m *move) leave(ctx context.Context, next *replica.Record, staged string) error {
	rec := m.to
	rec.Pending = &replica.Pending{Content: next.Content, Staged: staged}
	return m.takeBack(ctx, m.carry.to, rec, false)
}

// replace puts what waits where an older version is. What is replaced is known
// to be that version, as far as the tree lets us tell.
func (m *move) replace(ctx context.Context, staged, name string) (left string, err error) {
	t := m.carry.to.Tree
	if x, ok := t.(tree.Exchanger); ok {
		// What was replaced is looked at, and goes, when all is noted.
		if err := x.Exchange(ctx, staged, name); !errors.Is(err, tree.ErrUnsupported) {
			return staged, err
		}
	}
	return "", t.Rename(ctx, staged, name, true)
}

// transfer brings the content into the receiver's intake.
func (m *move) transfer(ctx context.Context, staged string, next *replica.Record) (tree.Entry, error) {
	r := m.carry.to
	if err := m.readyIntake(ctx); err != nil {
		return tree.Entry{}, err
	}
	content, err := m.carry.from.Tree.Open(ctx, m.there)
	if absent(err) || err == nil && !asKept(&m.from, content.Entry()) {
		if err == nil {
			content.Close()
		}
		return tree.Entry{}, m.changed(ctx, m.carry.from, m.there, m.from)
	}
	if err != nil {
		return tree.Entry{}, err
	}
	defer content.Close()
	stream := tree.Stream(ctx, content, 0)
	defer stream.Close()
	paced := m.paced(ctx, newChecked(stream, next.Digest))
	if _, err = r.Tree.Put(ctx, staged, paced, tree.PutOptions{Size: next.Size, SizeKnown: true}); err == nil {
		err = apply(ctx, r, staged, m.metaOf(r, next))
	}
	var entry tree.Entry
	if err == nil { // what the replica makes of it is looked at now: afterwards people may change it
		entry, _, err = m.look(ctx, r, staged)
	}
	if err != nil {
		_ = discardStaged(context.WithoutCancel(ctx), r, staged)
	}
	return entry, err
}

// rename carries a rename as one: when the receiver still has the file under
// its old name, and is to lose it there.
func (m *move) rename(ctx context.Context, name string, next replica.Record) (bool, error) {
	r := m.carry.to
	old, err := m.record(ctx, r, m.from.Moved)
	if err != nil {
		return false, err
	}
	sender, err := m.record(ctx, m.carry.from, m.from.Moved)
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
	leaving := &move{errand: m.errand, from: sender, to: old, v: v, there: was, here: was}
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
