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
	m.count(func(c *Carried) { c.Files, c.Bytes, c.Spared = c.Files+1, c.Bytes+next.Size, c.Spared+staged.Saved })
	return nil
}

// stage brings the content into the receiver's intake, and lets next know what is in it.
// What is not as recorded at either end is noted.
func (m *move) stage(ctx context.Context, next *replica.Record) (*transfer.Staged, error) {
	options := m.options(next)
	options.Key, options.Alike = m.to.Key, m.alike
	if m.to.Kind == replica.File {
		options.Older = &transfer.Known{Path: m.here, Entry: seenEntry(&m.to), Digest: m.to.Digest}
	}
	staged, err := m.carry.receiver.Stage(ctx, m.carry.sender, m.file(), options)
	switch {
	case errors.Is(err, transfer.ErrOlderChanged):
		return nil, m.changed(ctx, m.carry.to, m.here, m.to)
	case errors.Is(err, transfer.ErrChanged):
		return nil, cmp.Or(m.reread(ctx), err)
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
			return "", errors.Join(err, m.leave(ctx, next, staged.Path))
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
		_, err := staged.Place(ctx, name, false)
		if errors.Is(err, fs.ErrExist) && m.brings() { // somebody was quicker
			if err := m.leave(ctx, next, staged.Path); err != nil {
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

// leave gives up what waits in the intake, before anything was changed.
func (m *move) leave(ctx context.Context, next *replica.Record, staged string) error {
	rec := m.to
	rec.Pending = &replica.Pending{Content: next.Content, Staged: staged}
	return m.takeBack(ctx, m.carry.to, rec, false)
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
	leaving := &move{task: m.task, from: sender, to: old, v: v, there: was, here: was}
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
