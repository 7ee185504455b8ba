package replication

import (
	"cmp"
	"context"
	"path"

	"bridgespan/core/replica"
	"bridgespan/tree"
)

// move is what is done about one path.
type move struct {
	*task
	from, to    replica.Record
	v           replica.Verdict
	there, here string // the path at the sender and at the receiver
	over        bool   // the receiver has a stub there
}

// brings reports whether a file is to come where nothing is: that it is still
// there, and still nothing is here, shows while it is done.
func (m *move) brings() bool {
	return m.v.Content == replica.Take && m.from.Kind == replica.File && m.to.Kind == replica.None && m.from.Moved == ""
}

// touches reports whether more than the records is changed.
func (m *move) touches() bool { return m.v.Content == replica.Take || m.v.Permissions == replica.Take }

// next is the receiver's record as it will be.
func (m *move) next() replica.Record {
	next := m.to
	if m.v.Content == replica.Take || m.v.Content == replica.Adopt && next.Prior() {
		next.Content = m.from.Content
		next.Moved = ""
	}
	if m.v.Content != replica.Nothing {
		next.Version = m.v.ContentVersion
	}
	if m.v.Permissions == replica.Take {
		next.Permissions = m.from.Permissions
	}
	if m.v.Permissions != replica.Nothing {
		next.Permissions.Version = m.v.PermissionsVersion
	}
	if next.Kind == replica.None {
		next.Seen = replica.Seen{}
		next.Name = cmp.Or(next.Name, m.to.Name, m.from.Name)
	}
	return next
}

func (m *move) do(ctx context.Context) error {
	if m.v.Conflict && m.v.Content == replica.Take {
		m.count(func(c *Carried) { c.Conflicts++ })
	}
	next := m.next()
	if !m.touches() {
		return m.save(ctx, replica.Change{Replica: m.carry.to.ID, Records: []replica.Record{next}, Queue: m.tell(&next)})
	}
	if m.v.Content != replica.Take {
		return m.setPermissions(ctx, next)
	}
	switch m.from.Kind {
	case replica.None:
		return m.remove(ctx, next)
	case replica.Folder:
		return m.makeFolder(ctx, next)
	}
	if err := m.write(ctx, next); err != nil {
		return err
	}
	return m.carry.receiver.Forget(ctx, m.to.Key)
}

// tell are the lanes that have to hear of the receiver's new record.
func (m *move) tell(next *replica.Record) []replica.Lane {
	knows := m.carry.from.ID
	if next.Version.Compare(m.from.Version) != replica.Equal || next.Permissions.Version.Compare(m.from.Permissions.Version) != replica.Equal {
		knows = 0
	}
	return m.outOf(m.carry.to, knows)
}

// begin writes down what is about to be done.
func (m *move) begin(ctx context.Context, next replica.Record, staged, attic string) error {
	rec := m.to
	rec.Pending = &replica.Pending{Content: next.Content, Permissions: next.Permissions, Staged: staged, Attic: attic}
	return m.save(ctx, replica.Change{Replica: m.carry.to.ID, Records: []replica.Record{rec}, Begun: true})
}

// end writes down that it was done. name is where it is now; a file that waited
// in the intake has left it, unless staged says what waits there instead.
func (m *move) end(ctx context.Context, name string, next replica.Record, staged, attic string, brought *tree.Entry) error {
	rec := m.to
	rec.Pending = &replica.Pending{Content: next.Content, Permissions: next.Permissions, Staged: staged, Attic: attic}
	return m.finish(ctx, m.carry.to, name, rec, brought, m.tell(&next))
}

func (m *move) setPermissions(ctx context.Context, next replica.Record) error {
	if next.Kind == replica.None {
		return m.save(ctx, replica.Change{Replica: m.carry.to.ID, Records: []replica.Record{next}, Queue: m.tell(&next)})
	}
	if err := m.begin(ctx, next, "", ""); err != nil {
		return err
	}
	return m.end(ctx, m.here, next, "", "", nil)
}

// remove takes away what the receiver holds: a file goes to the attic.
func (m *move) remove(ctx context.Context, next replica.Record) error {
	r := m.carry.to
	if m.to.Kind == replica.Folder {
		if err := m.emptyFolder(ctx); err != nil {
			return err
		}
		if err := m.begin(ctx, next, "", ""); err != nil {
			return err
		}
		if err := m.removeFolder(ctx); err != nil {
			return err
		}
		return m.end(ctx, m.here, next, "", "", nil)
	}
	attic, err := m.atticFor(ctx)
	if err != nil {
		return err
	}
	if err := m.begin(ctx, next, "", attic); err != nil {
		return err
	}
	if err := r.Tree.Rename(ctx, m.here, attic, false); err != nil {
		return err
	}
	if err := dropStub(ctx, r, attic); err != nil {
		return err
	}
	return m.end(ctx, m.here, next, "", attic, nil)
}

// atticFor makes room in the attic for what is at the path, and says where.
func (m *move) atticFor(ctx context.Context) (string, error) {
	return m.inAttic(ctx, m.carry.to, m.here)
}

func (e *Engine) inAttic(ctx context.Context, r *Replica, of string) (string, error) {
	name := path.Join(atticFolder, e.Now().UTC().Format("20060102"), e.Unique(), of)
	return name, tree.MkdirAll(ctx, r.Tree, path.Dir(name))
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
	// Another file may have come to the old name meanwhile, and been removed there: its time tells.
	alike := old.Size == m.from.Size && old.Modified.Sub(m.from.Modified).Abs() <= replica.TimeTolerance
	return !m.from.Digest.Known() && alike && sender.Version.Compare(renamed) == replica.Equal
}
