package replication

import (
	"cmp"
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
	var leave func()
	err := m.carry.hands.rest(func() (err error) {
		leave, err = m.enterIntake(ctx, r, m.room(&next))
		return err
	})
	if err != nil {
		return err
	}
	defer leave()
	staged, err := m.begun(ctx)
	if err != nil {
		return err
	}
	attic := ""
	if m.v.Spare {
		if attic, err = m.atticFor(ctx); err != nil {
			return err
		}
	}
	brought, err := m.transfer(ctx, staged, &next)
	if err != nil {
		return err
	}
	if err := m.carry.hands.rest(func() error { return m.begin(ctx, next, staged, attic) }); err != nil {
		return errors.Join(err, m.drop(ctx, r, staged))
	}
	left, err := m.place(ctx, &next, staged, attic, name)
	if err != nil {
		return err
	}
	end := func() error { return m.end(ctx, name, next, left, attic, &brought) }
	if m.brings() { // nothing is left to be done but to note it
		err = m.carry.hands.rest(end)
	} else {
		err = end()
	}
	if err != nil {
		return err
	}
	m.count(func(c *Carried) { c.Files, c.Bytes, c.Spared = c.Files+1, c.Bytes+next.Size, c.Spared+m.spared })
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
	// What was replaced is looked at, and goes, when all is noted.
	if err := tree.Exchange(ctx, t, staged, name); !errors.Is(err, tree.ErrUnsupported) {
		return staged, err
	}
	return "", t.Rename(ctx, staged, name, true)
}

// transfer brings the content into the receiver's intake, and lets next know
// what is in it. It is lasting then, unless more is to come before it counts.
func (m *move) transfer(ctx context.Context, staged string, next *replica.Record) (tree.Entry, error) {
	var entry tree.Entry
	err := m.carry.hands.file(next.Size, func() (err error) {
		entry, err = m.fetch(ctx, staged, next)
		return err
	})
	if err == nil && !m.listed {
		err = m.carry.hands.rest(func() error { return m.flush(ctx, m.carry.to) })
	}
	if err != nil && (m.sofar.Bytes == 0 || errors.Is(err, tree.ErrNoSpace)) { // else it goes on another time
		_ = m.drop(ctx, m.carry.to, staged)
	}
	return entry, err
}

// fetch reads what the sender has, and stages it.
func (m *move) fetch(ctx context.Context, staged string, next *replica.Record) (tree.Entry, error) {
	content, err := m.openThere(ctx)
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
	entry, err := m.stage(ctx, staged, next, content)
	if errors.Is(err, errMoved) {
		err = cmp.Or(m.reread(ctx), err)
	}
	return entry, err
}

// openThere opens what the sender has. Of a small file it is not asked what it is:
// that is looked at once, when it was read.
func (m *move) openThere(ctx context.Context) (tree.Content, error) {
	t := m.carry.from.Tree
	if m.from.Kind != replica.File || m.from.Seen.Size > smallFile {
		return t.Open(ctx, m.there)
	}
	seen := &m.from.Seen
	expected := tree.Entry{Name: path.Base(m.there), Kind: tree.File, Size: seen.Size, Modified: seen.Modified, ID: seen.ID}
	return tree.OpenExpected(ctx, t, m.there, expected)
}

// stage writes content into the intake, with all that goes with it.
func (m *move) stage(ctx context.Context, staged string, next *replica.Record, content tree.Content) (tree.Entry, error) {
	r := m.carry.to
	options := tree.PutOptions{Size: next.Size, SizeKnown: true, Detail: m.detail(), Listed: m.listed}
	meta := m.metaOf(r, next)
	if !m.unnamed(r) {
		options.Meta = meta
	}
	write := func() (tree.Entry, error) {
		m.spared = 0
		if entry, err := m.goOn(ctx, staged, next, content, options); !errors.Is(err, tree.ErrUnsupported) {
			return entry, err
		}
		entry, err := m.duplicate(ctx, staged, next, content, options)
		if !errors.Is(err, tree.ErrUnsupported) {
			return entry, err
		}
		entry, err = m.delta(ctx, staged, next, content, options)
		if !errors.Is(err, tree.ErrUnsupported) {
			return entry, err
		}
		return m.bringAll(ctx, staged, next, content, options)
	}
	entry, err := write()
	if errors.Is(err, fs.ErrPermission) && !options.Meta.Descriptor.IsZero() {
		m.isUnnamed(r)
		options.Meta = tree.Meta{}
		entry, err = write()
	}
	if err != nil || !m.unnamed(r) {
		return entry, err
	}
	if err := apply(ctx, r, staged, meta); err != nil {
		return entry, err
	}
	// What the replica makes of it is looked at now: afterwards people may change it.
	entry, _, err = m.look(ctx, r, staged)
	return entry, err
}

// smallFile is a file that is read at once.
const smallFile = 64 << 10

// rename carries a rename as one: when the receiver still has the file under
// its old name, and is to lose it there.
func (m *move) rename(ctx context.Context, name string, next replica.Record) (bool, error) {
	r := m.carry.to
	old, err := m.record(ctx, r, m.from.Moved)
	if err != nil {
		return false, err
	}
	sender, err := m.record(ctx, m.carry.from, m.from.Moved)
	if err == nil && old.Kind == replica.File && sender.Kind == replica.File {
		err = m.noteGone(ctx, &sender)
	}
	if err != nil || old.Kind != replica.File || sender.Kind != replica.None || !m.stillHas(&old, &sender) {
		return false, err
	}
	if err := m.read(ctx, r, &old, &sender); err != nil {
		return false, err
	}
	next.Digest = old.Digest
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

// noteGone notes that what the sender renamed is not at its old path any more, where its
// record does not say so yet, and returns errMoved: the scan that found the new path comes
// to the old one last.
func (m *move) noteGone(ctx context.Context, old *replica.Record) error {
	was, err := m.pathOf(ctx, m.carry.from, old, old)
	if err != nil {
		return err
	}
	if _, err := m.carry.from.Tree.Stat(ctx, was); absent(err) {
		return m.changed(ctx, m.carry.from, was, *old)
	}
	return nil
}

// stillHas reports whether the receiver still has, under its old name, what the
// sender renamed: by its content, or as the version that the sender renamed.
func (m *move) stillHas(old, sender *replica.Record) bool {
	if old.SameBytes(&m.from.Content) {
		return true
	}
	renamed := old.Version.Advance(m.carry.from.ID)
	return !m.from.Digest.Known() && old.Size == m.from.Size && sender.Version.Compare(renamed) == replica.Equal
}
