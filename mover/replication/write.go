package replication

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"path"

	"bridgespan/core/replica"
	"bridgespan/mover/transfer"
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
	attic := ""
	if m.v.Spare {
		var err error
		if attic, err = m.atticFor(ctx); err != nil {
			return err
		}
	}
	if m.carry.to.Tree.Capabilities().WholePuts {
		return m.writeWhole(ctx, next, attic, name)
	}
	staged, err := m.stage(ctx, &next)
	if err != nil {
		return err
	}
	defer staged.Release()
	if err := m.carry.limiter.Rest(func() error { return m.begin(ctx, next, staged.Path, attic) }); err != nil {
		return errors.Join(err, staged.Drop(ctx))
	}
	left, err := m.place(ctx, &next, staged, attic, name)
	if err != nil {
		return err
	}
	end := func() error { return m.end(ctx, name, next, left, attic, &staged.Entry) }
	if m.brings() { // nothing is left to be done but to note it
		err = m.carry.limiter.Rest(end)
	} else {
		err = end()
	}
	if err != nil {
		return err
	}
	m.written(&next, staged)
	return nil
}

// written counts a file that was written. Nothing crossed for a stub.
func (m *move) written(next *replica.Record, staged *transfer.Staged) {
	if staged.Entry.Residency == tree.Stub {
		m.count(func(c *Carried) { c.Files++ })
		return
	}
	m.count(func(c *Carried) { c.Files, c.Bytes, c.Spared = c.Files+1, c.Bytes+next.Size, c.Spared+staged.Saved })
	m.received(next.Size)
}

// writeWhole writes a file to a tree whose Put is atomic, without an intake. The tree compares the version of a
// file that is replaced. A file that goes to the attic is copied there first, so that its path is never empty.
func (m *move) writeWhole(ctx context.Context, next replica.Record, attic, name string) error {
	if err := m.carry.limiter.Rest(func() error { return m.begin(ctx, next, "", attic) }); err != nil {
		return err
	}
	older, err := m.replaced(ctx, attic, name)
	if errors.Is(err, errMoved) {
		return errors.Join(err, m.leave(ctx, &next, "", attic))
	}
	if err != nil {
		return err
	}
	options := m.options(&next)
	options.Older, options.Alike = older, m.alike
	written, err := transfer.Copy(ctx, m.carry.sender, m.carry.receiver, m.file(), name, options)
	switch {
	case errors.Is(err, transfer.ErrOlderChanged), errors.Is(err, fs.ErrExist) && older == nil: // somebody was quicker
		return errors.Join(m.leave(ctx, &next, "", attic), m.changed(ctx, m.carry.to, m.here, m.to))
	case errors.Is(err, tree.ErrChanged):
		return errors.Join(m.leave(ctx, &next, "", attic), cmp.Or(m.reread(ctx), err))
	case errors.Is(err, tree.ErrStub):
		return errors.Join(m.leave(ctx, &next, "", attic), m.fill(ctx))
	case err != nil: // it may have been written: that is settled before the next try
		return err
	}
	next.Digest = written.Digest
	if err := m.end(ctx, name, next, "", attic, &written.Entry); err != nil {
		return err
	}
	m.written(&next, written)
	return nil
}

// replaced prepares the path of a file that is written whole, and returns the file that it replaces, or nil.
func (m *move) replaced(ctx context.Context, attic, name string) (*transfer.Known, error) {
	r := m.carry.to
	switch m.to.Kind {
	case replica.None:
		return nil, nil
	case replica.Folder:
		return nil, m.removeFolder(ctx)
	}
	if err := respell(ctx, r, m.here, name); err != nil {
		return nil, err
	}
	entry, there, err := m.look(ctx, r, name)
	if err == nil && (!there || !asKept(&m.to, entry)) {
		err = errMoved
	}
	if err == nil && attic != "" {
		err = m.carry.receiver.Duplicate(ctx, name, entry, attic)
	}
	return &transfer.Known{Path: name, Entry: entry, Digest: m.to.Digest}, err
}

// stage brings the content into the receiver's intake, and lets next know what is in it.
// What is not as recorded at either end is noted.
func (m *move) stage(ctx context.Context, next *replica.Record) (*transfer.Staged, error) {
	options := m.options(next)
	stub, err := m.asStub(ctx)
	if err != nil {
		return nil, err
	}
	if stub {
		return m.stageStub(ctx, next)
	}
	options.Key, options.Alike = m.to.Key, m.alike
	if m.to.Kind == replica.File && !m.over { // the content of a stub is not here to be compared
		options.Older = &transfer.Known{Path: m.here, Entry: seenEntry(&m.to), Digest: m.to.Digest}
	}
	staged, err := m.carry.receiver.Stage(ctx, m.carry.sender, m.file(), options)
	switch {
	case errors.Is(err, transfer.ErrOlderChanged):
		return nil, m.changed(ctx, m.carry.to, m.here, m.to)
	case errors.Is(err, tree.ErrChanged):
		return nil, cmp.Or(m.reread(ctx), err)
	case errors.Is(err, tree.ErrStub):
		return nil, m.fill(ctx)
	case err != nil:
		return nil, err
	}
	next.Digest = staged.Digest
	return staged, nil
}

// file is the sender's file, as its record has seen it.
func (m *move) file() transfer.File {
	return transfer.File{Path: m.there, Entry: seenEntry(&m.from), Digest: m.from.Digest}
}

// seenEntry is a file as its record has seen it.
func seenEntry(rec *replica.Record) tree.Entry {
	return tree.Entry{Kind: tree.File, Size: rec.Size, Modified: rec.Seen.Modified, ID: rec.Seen.ID}
}

// options are those of the transfer of any file.
func (m *move) options(next *replica.Record) transfer.Options {
	return transfer.Options{Meta: m.metaOf(m.carry.to, next), Detail: m.detail(), Pace: m.carry.cross, Limiter: m.carry.limiter}
}

// alike lists the files of the receiver that may have the content of the sender's file.
func (m *move) alike(ctx context.Context) ([]transfer.Known, error) {
	r := m.carry.to
	records, err := m.Store.Alike(ctx, r.ID, m.from.Size, m.from.Modified)
	if err != nil {
		return nil, err
	}
	var alike []transfer.Known
	for _, other := range records {
		if other.Key == m.to.Key || other.Pending != nil || m.from.Digest.Known() && other.Digest != m.from.Digest {
			continue
		}
		name, err := m.pathOf(ctx, r, &other, &other)
		if err != nil {
			return nil, err
		}
		alike = append(alike, transfer.Known{Path: name, Entry: seenEntry(&other), Digest: other.Digest})
	}
	return alike, nil
}

// place puts what waits in the intake where it belongs. left is where what was
// there waits now, if anywhere.
func (m *move) place(ctx context.Context, next *replica.Record, staged *transfer.Staged, attic, name string) (left string, err error) {
	r := m.carry.to
	if !m.brings() { // bringing it took a while
		ok, err := unchanged(ctx, r, m.here, &m.to)
		if err == nil && !ok {
			err = errMoved
		}
		if err != nil {
			return "", errors.Join(err, m.leave(ctx, next, staged.Path, ""))
		}
	}
	switch {
	case attic != "":
		if err := r.Tree.Rename(ctx, m.here, attic, false); err != nil {
			return "", err
		}
		if err := dropStub(ctx, r, attic); err != nil {
			return "", err
		}
	case m.to.Kind == replica.Folder:
		if err := m.removeFolder(ctx); err != nil {
			return "", err
		}
	}
	if m.to.Kind != replica.File || attic != "" {
		_, err := staged.Place(ctx, name, false)
		if errors.Is(err, fs.ErrExist) && m.brings() { // somebody was quicker
			if err := m.leave(ctx, next, staged.Path, ""); err != nil {
				return "", err
			}
			return "", m.changed(ctx, r, m.here, m.to)
		}
		return "", err
	}
	if err := respell(ctx, r, m.here, name); err != nil {
		return "", err
	}
	// What was replaced is looked at, and goes, when all is noted.
	return staged.Place(ctx, name, true)
}

// leave gives up what waits in the intake, and a copy in the attic, before anything was changed.
func (m *move) leave(ctx context.Context, next *replica.Record, staged, attic string) error {
	rec := m.to
	rec.Pending = &replica.Pending{Content: next.Content, Staged: staged, Attic: attic}
	return m.takeBack(ctx, m.carry.to, rec, false)
}
