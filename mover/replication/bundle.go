package replication

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"slices"
	"sync"

	"bridgespan/core/replica"
	"bridgespan/tree"
)

// A bundle is a folder that the receiver lacks, with files right in it. It is made
// in the intake, all of it, and put in its place by one rename: over SMB that takes
// far less than putting each file in its place. What is not to be bundled after
// all is carried alone.

// Bounds of a bundle: what is in it is seen only when all of it is there.
const (
	bundleLeast = 2         // files
	bundleMost  = 200       // files: servers look through a folder for each name
	bundleFile  = 256 << 10 // bytes of a file: of a larger one, most of the time is its own
	bundleBytes = 8 << 20   // bytes of all: what is broken off is brought again
)

// bundle hands the errands of files to those of the folders that they come with,
// and returns the others.
func (c *carry) bundle(errands []*errand) []*errand {
	folders := map[string]*errand{}
	for _, e := range errands {
		if e.newFolder() {
			folders[e.ticket.Key] = e
		}
	}
	if len(folders) == 0 {
		return errands
	}
	for _, e := range errands {
		from, to := e.atSender, e.atReceiver
		above := folders[parentKey(e.ticket.Key)]
		if above == nil || from == nil || from.Kind != replica.File || !unknown(to) || from.Pending != nil || from.Moved != "" || from.Size > bundleFile ||
			len(above.files) == bundleMost || above.bytes+from.Size > bundleBytes {
			continue
		}
		e.with, above.files, above.bytes = above, append(above.files, e), above.bytes+from.Size
	}
	for _, e := range folders {
		if len(e.files) < bundleLeast {
			e.files = nil
		}
	}
	return slices.DeleteFunc(errands, func(e *errand) bool { return e.with != nil && e.with.files != nil })
}

// unknown reports whether a record knows of nothing, now and before.
func unknown(rec *replica.Record) bool {
	return rec.Kind == replica.None && len(rec.Version) == 0 && rec.Pending == nil
}

// bundled is a file of a bundle.
type bundled struct {
	*move
	next    replica.Record
	staged  string
	brought tree.Entry
}

// bring carries a folder with the files in it. done is false when nothing was
// changed: the folder is to be carried alone.
func (e *errand) bring(ctx context.Context) (done bool, err error) {
	folder, err := e.bundledMove(ctx, "")
	// Where each replica has its own permissions, a new folder is to inherit from the
	// one above it: the intake stands for the top alone.
	if err != nil || folder == nil || folder.from.Kind != replica.Folder || e.LeavePermissions && parentKey(e.ticket.Key) != "." {
		return false, err
	}
	if err := e.parent(ctx, e.ticket.Key, 0); err != nil {
		return false, err
	}
	if folder.here, err = e.pathOf(ctx, e.carry.to, &folder.to, &folder.from); err != nil {
		return false, err
	}
	var leave func()
	err = e.carry.hands.rest(func() (err error) {
		leave, err = e.enterIntake(ctx, e.carry.to, e.bytes)
		return err
	})
	if err != nil {
		return false, err
	}
	defer leave()
	b := &bundling{errand: e, folder: folder}
	if b.staged, err = e.stagedName(ctx); err != nil {
		return false, err
	}
	if err := e.carry.to.Tree.Mkdir(ctx, b.staged); err != nil {
		return false, err
	}
	placed, err := b.carry(ctx)
	if !placed {
		_ = e.dropFolder(ctx, e.carry.to, b.staged)
	}
	return placed, err
}

// bundledMove is the move that an errand of a bundle is about; nil when it is not
// to be made in a bundle. above is the sender's folder that it is in, where that is
// known.
func (e *errand) bundledMove(ctx context.Context, above string) (*move, error) {
	from, err := e.record(ctx, e.carry.from, e.ticket.Key)
	if err != nil {
		return nil, err
	}
	to, err := e.record(ctx, e.carry.to, e.ticket.Key)
	if err != nil || !unknown(&to) {
		return nil, err
	}
	v := replica.Decide(&from, &to)
	if v.Content != replica.Take || v.Spare || v.Conflict {
		return nil, nil
	}
	if above == "" {
		if above, err = e.spelled(ctx, e.carry.from, parentKey(from.Key)); err != nil {
			return nil, err
		}
	}
	return &move{errand: e, from: from, to: to, v: v, there: replica.Below(above, nameOf(&from, &to))}, nil
}

// bundling makes one bundle.
type bundling struct {
	*errand
	folder *move
	staged string

	mu    sync.Mutex
	files []*bundled
}

// carry brings what is in the bundle, and puts it in its place. placed is false
// when it was not: then nothing is noted that it was to be.
func (b *bundling) carry(ctx context.Context) (placed bool, err error) {
	if err := b.errand.carry.hands.rest(func() error {
		if err := b.fetch(ctx); err != nil {
			return err
		}
		return b.flush(ctx, b.errand.carry.to)
	}); err != nil {
		return false, err
	}
	if err := b.recheck(ctx); err != nil {
		if absent(err) { // the folder has gone: that is noted when it is carried alone
			err = nil
		}
		return false, err
	}
	if err := b.list(ctx); err != nil {
		return false, err
	}
	next := b.folder.next()
	r := b.errand.carry.to
	if err := b.permitFolder(ctx, next); err != nil {
		return false, err
	}
	entry, _, err := b.look(ctx, r, b.staged)
	if err != nil {
		return false, err
	}
	if err := b.save(ctx, replica.Change{Replica: r.ID, Records: b.begun(&next), Begun: true}); err != nil {
		return false, err
	}
	err = r.Tree.Rename(ctx, b.staged, path.Join(path.Dir(b.folder.here), next.Name), false)
	if errors.Is(err, fs.ErrExist) { // somebody was quicker
		return false, errors.Join(b.save(ctx, replica.Change{Replica: r.ID, Records: b.before()}), errLater)
	}
	if err != nil {
		return true, err // it is settled, whether it came about or not
	}
	return true, b.note(ctx, next, entry)
}

// begun are the records of what is to be put in its place, next that of the folder.
func (b *bundling) begun(next *replica.Record) []replica.Record {
	records := b.before()
	pending := make([]replica.Pending, len(records))
	pending[0] = replica.Pending{Content: next.Content, Permissions: next.Permissions, Staged: b.staged}
	for i, f := range b.files {
		pending[1+i] = replica.Pending{Content: f.next.Content, Permissions: f.next.Permissions, Staged: f.staged}
	}
	for i := range records {
		records[i].Pending = &pending[i]
	}
	return records
}

// before are the records as they were: the folder's, and those of the files.
func (b *bundling) before() []replica.Record {
	records := make([]replica.Record, 1, 1+len(b.files))
	records[0] = b.folder.to
	for _, f := range b.files {
		records = append(records, f.to)
	}
	return records
}

// permitFolder gives the folder what goes with it, before it is seen.
func (b *bundling) permitFolder(ctx context.Context, next replica.Record) error {
	meta := b.metaOf(b.errand.carry.to, &next)
	if meta.Attributes == nil && meta.Descriptor.IsZero() {
		return nil
	}
	return apply(ctx, b.errand.carry.to, b.staged, meta)
}

// fetch brings the files, side by side. Those that cannot be brought now are left
// to be carried alone.
func (b *bundling) fetch(ctx context.Context) error {
	c := b.errand.carry
	return c.crew.each(ctx, len(b.errand.files), func(ctx context.Context, i int) error {
		return c.hands.work(func() error { return b.file(ctx, b.errand.files[i]) })
	})
}

// file brings one file.
func (b *bundling) file(ctx context.Context, e *errand) error {
	m, err := e.bundledMove(ctx, b.folder.there)
	if err == nil && (m == nil || !m.brings()) {
		return nil
	}
	if err == nil {
		f := &bundled{move: m, next: m.next()}
		m.here, m.listed = replica.Below(b.folder.here, f.next.Name), true
		f.staged = replica.Below(b.staged, f.next.Name)
		if f.brought, err = m.transfer(ctx, f.staged, &f.next); err == nil {
			b.mu.Lock()
			b.files = append(b.files, f)
			b.mu.Unlock()
			return nil
		}
	}
	if fatal(ctx, err) {
		return err
	}
	return nil
}

// recheck looks at the sender's folder, all of it at once, after what is in it was
// read. What is no longer as it was when it was recorded is left to be carried alone.
func (b *bundling) recheck(ctx context.Context) error {
	files := b.byName(func(f *bundled) string { return f.there })
	same := make(map[*bundled]bool, len(b.files))
	for entry, err := range b.errand.carry.from.Tree.List(ctx, b.folder.there, tree.Bare) {
		if err != nil {
			return err
		}
		if f := files[entry.Name]; f != nil {
			same[f] = asKept(&f.from, entry)
		}
	}
	kept := b.files[:0]
	for _, f := range b.files {
		if same[f] {
			kept = append(kept, f)
		} else if err := b.drop(ctx, b.errand.carry.to, f.staged); err != nil {
			return err
		}
	}
	b.files = kept
	return nil
}

// byName are the files by the last element of a path of theirs.
func (b *bundling) byName(of func(*bundled) string) map[string]*bundled {
	files := make(map[string]*bundled, len(b.files))
	for _, f := range b.files {
		files[path.Base(of(f))] = f
	}
	return files
}

// list looks at what was brought, all of it at once, where that was not told of
// each file.
func (b *bundling) list(ctx context.Context) error {
	if !slices.ContainsFunc(b.files, func(f *bundled) bool { return f.brought.ID == 0 }) {
		return nil
	}
	files := b.byName(func(f *bundled) string { return f.staged })
	for entry, err := range b.errand.carry.to.Tree.List(ctx, b.staged, tree.Plain) {
		if err != nil {
			return err
		}
		f := files[entry.Name]
		if f == nil || entry.Kind != tree.File || entry.Size != f.brought.Size {
			continue
		}
		entry.Descriptor = f.brought.Descriptor
		f.brought = entry
		delete(files, entry.Name)
	}
	for _, f := range files {
		return tree.PathError("stage", f.staged, tree.ErrTorn)
	}
	return nil
}

// note saves what is there by now.
func (b *bundling) note(ctx context.Context, next replica.Record, entry tree.Entry) error {
	next.Seen = b.seenOf(entry)
	records := make([]replica.Record, 1, 1+len(b.files))
	records[0] = next
	c := replica.Change{Replica: b.errand.carry.to.ID, Records: records, Queue: b.folder.tell(&next), Whole: next.Key}
	var others []replica.Change
	for _, f := range b.files {
		f.next.Seen = b.seenOf(f.brought)
		if queue := f.tell(&f.next); len(queue) == len(c.Queue) { // of all lanes, or of all but one
			c.Records = append(c.Records, f.next)
		} else {
			others = append(others, replica.Change{Replica: c.Replica, Records: []replica.Record{f.next}, Queue: queue})
		}
	}
	for _, change := range append(others, c) {
		if err := b.save(ctx, change); err != nil {
			return err
		}
	}
	for _, f := range b.files {
		f.arrived = true
		b.count(func(c *Carried) { c.Files, c.Bytes = c.Files+1, c.Bytes+f.next.Size })
	}
	return nil
}

// dropFolder discards a folder of an intake with all that is in it, also when ctx
// has ended.
func (e *Engine) dropFolder(ctx context.Context, r *Replica, staged string) error {
	ctx = context.WithoutCancel(ctx)
	err := e.sweepFolder(ctx, r, staged, tree.Folder, nil)
	if err != nil && !absent(err) {
		e.leaveFor(r, staged)
	}
	return err
}
