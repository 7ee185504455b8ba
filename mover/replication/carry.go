package replication

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/replica"
	"bridgespan/tree"
)

// Carried is what a lane did.
type Carried struct {
	Done      int   // paths that are as they should be
	Files     int   // that were written
	Bytes     int64 // that were written
	Conflicts int
	Postponed int // that could not be done now
}

// Carry works off up to limit paths of a lane's backlog. What cannot be done is
// told to Trouble and stays in the backlog, behind the others. It does nothing
// while the sender is not filled, or one of both was not yet looked at.
func (e *Engine) Carry(ctx context.Context, lane replica.Lane, limit int) (Carried, error) {
	c := &carry{Engine: e, lane: lane, from: e.replica(lane.From), to: e.replica(lane.To)}
	if !c.from.Filled || !c.to.Scanned {
		return c.done, nil
	}
	tickets, err := e.Store.Backlog(ctx, lane, limit)
	if err != nil {
		return c.done, err
	}
	// Folders before what is in them; and the other way round where they go.
	slices.SortFunc(tickets, func(a, b replica.Ticket) int { return strings.Compare(a.Key, b.Key) })
	var later []replica.Ticket
	for _, t := range tickets {
		if later, err = c.ticket(ctx, t, later); err != nil {
			return c.done, err
		}
	}
	for _, t := range slices.Backward(later) {
		left, err := c.ticket(ctx, t, nil)
		if err != nil {
			return c.done, err
		}
		if len(left) > 0 {
			c.done.Postponed++
			if err := e.Store.Postpone(ctx, lane, left); err != nil {
				return c.done, err
			}
		}
	}
	return c.done, e.fill(ctx, c.to)
}

type carry struct {
	*Engine
	lane     replica.Lane
	from, to *Replica
	done     Carried
}

// ticket does what is to be done about one path; when something else is to be
// done first it is added to later.
func (c *carry) ticket(ctx context.Context, t replica.Ticket, later []replica.Ticket) ([]replica.Ticket, error) {
	err := c.path(ctx, t.Key, 0)
	if ctx.Err() != nil {
		return later, ctx.Err()
	}
	var failed *storeError
	switch {
	case errors.As(err, &failed):
		return later, failed.err
	case err == nil:
		c.done.Done++
		return later, c.Store.Done(ctx, c.lane, []replica.Ticket{t})
	case !errors.Is(err, errLater) && !errors.Is(err, errMoved):
		c.trouble(c.to, t.Key, err)
	}
	return append(later, t), nil
}

// storeError is a failure of the records: without them nothing can go on.
type storeError struct{ err error }

func (s *storeError) Error() string { return s.err.Error() }
func (s *storeError) Unwrap() error { return s.err }

func (c *carry) get(ctx context.Context, r *Replica, key string) (replica.Record, error) {
	rec, err := c.Store.Get(ctx, r.ID, key)
	if err == nil && rec.Pending != nil {
		if err := c.settle(ctx, r, rec); err != nil {
			return rec, err
		}
		rec, err = c.Store.Get(ctx, r.ID, key)
	}
	if err != nil {
		return rec, &storeError{err}
	}
	return rec, nil
}

func (c *carry) save(ctx context.Context, change replica.Change) error {
	if err := c.Store.Save(ctx, change); err != nil {
		return &storeError{err}
	}
	return nil
}

// path makes one path at the receiver what the rules say.
func (c *carry) path(ctx context.Context, key string, depth int) error {
	from, err := c.get(ctx, c.from, key)
	if err != nil {
		return err
	}
	to, err := c.get(ctx, c.to, key)
	if err != nil {
		return err
	}
	v := replica.Decide(&from, &to)
	if v.Idle() {
		return nil
	}
	if to.Kind == replica.None && from.Kind != replica.None && v.Content == replica.Take {
		if err := c.parent(ctx, key, depth); err != nil {
			return err
		}
	}
	here, err := c.pathOf(ctx, c.to, &to, &from)
	if err != nil {
		return err
	}
	there, err := c.pathOf(ctx, c.from, &from, &to)
	if err != nil {
		return err
	}
	m := &move{carry: c, from: from, to: to, v: v, there: there, here: here}
	if m.touches() {
		// Only what both ends still show may be acted on.
		if err := c.current(ctx, c.to, here, to); err != nil {
			return err
		}
		if err := c.current(ctx, c.from, there, from); err != nil {
			return err
		}
	}
	return m.do(ctx)
}

// current returns errMoved, after noting the change, when people have changed
// what is at a path since its record was made.
func (c *carry) current(ctx context.Context, r *Replica, name string, rec replica.Record) error {
	ok, err := unchanged(ctx, r, name, &rec)
	if err != nil || ok {
		return err
	}
	now, changed, err := c.observe(ctx, r, name, rec)
	if err != nil {
		return err
	}
	if rec.Kind == replica.Folder && now.Kind != replica.Folder {
		if err := (&scan{Engine: c.Engine, r: r}).emptied(ctx, rec.Key); err != nil {
			return &storeError{err}
		}
	}
	change := replica.Change{Replica: r.ID, Records: []replica.Record{now}}
	if changed {
		change.Queue = c.toTell(r, change.Records)
	}
	if err := c.save(ctx, change); err != nil {
		return err
	}
	return errMoved
}

// parent makes the folder that a path is in, when the receiver lacks it.
func (c *carry) parent(ctx context.Context, key string, depth int) error {
	above := parentKey(key)
	if above == "." {
		return nil
	}
	rec, err := c.get(ctx, c.to, above)
	if err != nil || rec.Kind == replica.Folder {
		return err
	}
	sender, err := c.get(ctx, c.from, above)
	if err != nil {
		return err
	}
	if sender.Kind != replica.Folder || depth > maxDepth {
		return errLater
	}
	v := replica.Decide(&sender, &rec)
	if v.Content == replica.Take {
		return c.path(ctx, above, depth+1)
	}
	// The receiver removed it, or made a file of it, and does not know of what is
	// new in it: a folder lives on while it holds anything that does.
	return c.revive(ctx, c.from, sender, rec)
}

// maxDepth bounds how many folders are made for one path.
const maxDepth = 1024

// revive makes a folder's version one that beats the removal at the other end,
// and waits for it to get there.
func (c *carry) revive(ctx context.Context, r *Replica, rec, other replica.Record) error {
	rec.Content.Version = rec.Version.Join(other.Version).Advance(r.ID)
	rec.Content.Changed, rec.Content.By = c.Now(), r.ID
	rec.Permissions.Version = rec.Permissions.Version.Join(other.Permissions.Version)
	if err := c.save(ctx, replica.Change{Replica: r.ID, Records: []replica.Record{rec}, Queue: c.toTell(r, nil)}); err != nil {
		return err
	}
	return errLater
}

// move is what is done about one path.
type move struct {
	*carry
	from, to    replica.Record
	v           replica.Verdict
	there, here string // the path at the sender and at the receiver
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
		m.done.Conflicts++
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
	return m.write(ctx, next)
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
	return m.save(ctx, replica.Change{Replica: m.carry.to.ID, Records: []replica.Record{rec}})
}

// end writes down that it was done. name is where it is now, and brought as for finish.
func (m *move) end(ctx context.Context, name string, next replica.Record, staged, attic string, brought *tree.Entry) error {
	rec := m.to
	rec.Pending = &replica.Pending{Content: next.Content, Permissions: next.Permissions, Staged: staged, Attic: attic}
	return m.finish(ctx, m.carry.to, name, rec, brought)
}

// finish sets the permissions of what is pending and is in its place, and saves
// the record as it is from now on. brought is the file that was put there, as it
// was before people could reach it; nil when it is the one that was there before.
func (e *Engine) finish(ctx context.Context, r *Replica, name string, rec replica.Record, brought *tree.Entry) error {
	p := rec.Pending
	next := rec
	next.Content, next.Permissions, next.Pending, next.Seen = p.Content, p.Permissions, nil, replica.Seen{}
	if p.Content.Kind != replica.None {
		if err := e.permit(ctx, r, name, &rec, &next); err != nil {
			return err
		}
		if brought == nil {
			entry, there, err := look(ctx, r, name)
			if err != nil {
				return err
			}
			if !there {
				return errMoved
			}
			if next.Seen = seenOf(entry); !isOurs(&rec, entry) { // people were quick; the next scan finds out
				next.Seen = replica.Seen{}
			}
		} else {
			next.Seen = seenOf(*brought)
		}
	}
	c := replica.Change{Replica: r.ID, Records: []replica.Record{next}, Queue: e.outOf(r, 0)}
	if p.Attic != "" && e.exists(ctx, r, p.Attic) {
		c.Kept = []replica.Kept{{Path: rec.Key, Attic: p.Attic, Why: reasonOf(&rec)}}
	}
	kept, err := e.discard(ctx, r, &rec)
	if err != nil {
		return err
	}
	c.Kept = append(c.Kept, kept...)
	if err := e.Store.Save(ctx, c); err != nil {
		return &storeError{err}
	}
	return nil
}

// isOurs reports whether an entry is what was left there, and not what people
// made of it since.
func isOurs(rec *replica.Record, entry tree.Entry) bool {
	c := &rec.Pending.Content
	return kindOf(entry) == c.Kind && (c.Kind != replica.File || entry.Size == c.Size && entry.Modified.Sub(c.Modified).Abs() <= replica.TimeTolerance)
}

func reasonOf(rec *replica.Record) replica.Reason {
	switch p := rec.Pending; {
	case rec.Prior():
		return replica.First
	case p.Content.Kind == replica.None:
		return replica.Removed
	case p.Content.Kind != rec.Kind:
		return replica.Replaced
	}
	return replica.Lost
}

// permit gives what is at a path the permissions and the time that its record
// will say. What waited in the intake had them there.
func (e *Engine) permit(ctx context.Context, r *Replica, name string, rec, next *replica.Record) error {
	if rec.Pending.Staged != "" {
		return nil
	}
	want := metaOf(r, next)
	if rec.Kind == next.Kind && rec.Permissions.Same(&next.Permissions) {
		want.Descriptor, want.Attributes = acl.Descriptor{}, nil
	}
	if next.Kind == replica.File {
		entry, err := r.Tree.Stat(ctx, name)
		if err != nil {
			return err
		}
		if entry.Modified.Equal(want.Modified) {
			want.Modified = time.Time{}
		}
	}
	if want.Modified.IsZero() && want.Attributes == nil && want.Descriptor.IsZero() {
		return nil
	}
	return r.Tree.Apply(ctx, name, want)
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
	return m.end(ctx, m.here, next, "", attic, nil)
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
		sender, err := m.get(ctx, m.carry.from, child.Key)
		if err != nil {
			return err
		}
		if v := replica.Decide(&sender, &child); sender.Kind == replica.None && v.Content == replica.Take {
			return errLater // it goes too, before
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
	s := &scan{Engine: m.Engine, r: r}
	if err := s.folder(ctx, m.here, m.to.Key); err != nil {
		return &storeError{err}
	}
	if s.done.Changed == 0 { // what is in it cannot be carried; it cannot be thrown away either
		return m.revive(ctx, r, m.to, m.from)
	}
	return errLater
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

// atticFor makes room in the attic for what is at the path, and says where.
func (m *move) atticFor(ctx context.Context) (string, error) {
	return m.inAttic(ctx, m.carry.to, m.here)
}

func (e *Engine) inAttic(ctx context.Context, r *Replica, of string) (string, error) {
	name := path.Join(atticFolder, e.Now().UTC().Format("20060102"), e.Unique(), of)
	return name, tree.MkdirAll(ctx, r.Tree, path.Dir(name))
}

// metaOf is what is set on a file or folder beside its content.
func metaOf(r *Replica, next *replica.Record) tree.Meta {
	attributes := tree.Attributes(next.Permissions.Attributes)
	meta := tree.Meta{Attributes: &attributes}
	if next.Kind == replica.File {
		meta.Modified = next.Modified
	}
	if r.Tree.Capabilities().Descriptors {
		meta.Descriptor = next.Permissions.Descriptor
	}
	return meta
}

// fill notes that a replica has had all that the set had.
func (e *Engine) fill(ctx context.Context, r *Replica) error {
	if r.Filled || !r.Scanned {
		return nil
	}
	for _, l := range e.into(r) {
		if !e.replica(l.From).Filled {
			continue
		}
		left, err := e.Store.Backlog(ctx, l, 1)
		if err != nil {
			return err
		}
		r.Filled = r.Filled || len(left) == 0
	}
	return nil
}
