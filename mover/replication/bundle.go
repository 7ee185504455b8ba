package replication

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"path"
	"slices"
	"sync"

	"bridgespan/core/replica"
	"bridgespan/mover/transfer"
	"bridgespan/tree"
)

// A bundle is a folder that the receiver lacks, with files right in it. It is made
// in the intake, all of it, and put in its place by one rename: over SMB that takes
// far less than putting each file in its place. What is not to be bundled after
// all is carried alone.

// bundle hands the tasks of files to those of the folders that they come with,
// and returns the others. A tree whose Put is atomic needs no bundles, and would copy each file out of one.
func (c *carry) bundle(tasks []*task) []*task {
	if c.to.Tree.Capabilities().WholePuts {
		return tasks
	}
	folders := map[string]*task{}
	for _, e := range tasks {
		if e.newFolder() {
			folders[e.ticket.Key] = e
		}
	}
	if len(folders) == 0 {
		return tasks
	}
	for _, e := range tasks {
		from, to := e.atSender, e.atReceiver
		above := folders[parentKey(e.ticket.Key)]
		if above == nil || from == nil || from.Kind != replica.File || !unknown(to) || from.Pending != nil || from.Moved != "" || from.Size > transfer.BundleFile ||
			len(above.files) == transfer.BundleMost || above.bytes+from.Size > transfer.BundleBytes || c.to.AsStub != nil && c.to.AsStub(e.ticket.Key, from.Size, from.Modified) {
			continue
		}
		e.with, above.files, above.bytes = above, append(above.files, e), above.bytes+from.Size
	}
	for _, e := range folders {
		if len(e.files) < transfer.BundleLeast {
			e.files = nil
		}
	}
	return slices.DeleteFunc(tasks, func(e *task) bool { return e.with != nil && e.with.files != nil })
}

// unknown reports whether a record knows of nothing, now and before.
func unknown(rec *replica.Record) bool {
	return rec.Kind == replica.None && len(rec.Version) == 0 && rec.Pending == nil
}

// bundled is a file of a bundle.
type bundled struct {
	*move
	next replica.Record
	file *transfer.Bundled
}

// bring carries a folder with the files in it. done is false when nothing was
// changed: the folder is to be carried alone.
func (e *task) bring(ctx context.Context) (done bool, err error) {
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
	c := e.carry
	bundle, err := c.receiver.OpenBundle(ctx, e.bytes, c.limiter)
	if err != nil {
		return false, err
	}
	defer bundle.Close(ctx)
	b := &bundling{task: e, folder: folder, bundle: bundle}
	return b.carry(ctx)
}

// bundledMove is the move that a task of a bundle is about; nil when it is not
// to be made in a bundle. above is the sender's folder that it is in, where that is
// known.
func (e *task) bundledMove(ctx context.Context, above string) (*move, error) {
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
	return &move{task: e, from: from, to: to, v: v, there: replica.Below(above, nameOf(&from, &to))}, nil
}

// bundling makes one bundle.
type bundling struct {
	*task
	folder *move
	bundle *transfer.Bundle

	mu    sync.Mutex
	files []*bundled
}

// carry brings what is in the bundle, and puts it in its place. placed is false
// when it was not: then nothing is noted that it was to be.
func (b *bundling) carry(ctx context.Context) (placed bool, err error) {
	c, next := b.task.carry, b.folder.next()
	if err := b.fetch(ctx); err != nil {
		return false, err
	}
	options := transfer.Options{Meta: b.metaOf(c.to, &next), Detail: b.detail(), Limiter: c.limiter}
	entry, kept, err := b.bundle.Complete(ctx, c.sender, b.folder.there, options)
	if absent(err) { // the folder is gone: that is noted when it is carried alone
		return false, nil
	}
	if err != nil {
		return false, err
	}
	b.files = slices.DeleteFunc(b.files, func(f *bundled) bool { return !slices.Contains(kept, f.file) })
	if err := b.save(ctx, replica.Change{Replica: c.to.ID, Records: b.begun(&next), Begun: true}); err != nil {
		return false, err
	}
	err = b.bundle.Place(ctx, path.Join(path.Dir(b.folder.here), next.Name))
	if errors.Is(err, fs.ErrExist) { // somebody was quicker
		return false, errors.Join(b.save(ctx, replica.Change{Replica: c.to.ID, Records: b.before()}), errLater)
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
	pending[0] = replica.Pending{Content: next.Content, Permissions: next.Permissions, Staged: b.bundle.Path}
	for i, f := range b.files {
		pending[1+i] = replica.Pending{Content: f.next.Content, Permissions: f.next.Permissions, Staged: f.file.Path}
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

// fetch brings the files, side by side. Those that cannot be brought now are left
// to be carried alone.
func (b *bundling) fetch(ctx context.Context) error {
	c := b.task.carry
	return c.limiter.Rest(func() error {
		return c.workers.Each(ctx, len(b.task.files), func(ctx context.Context, i int) error {
			return c.limiter.Work(func() error { return b.file(ctx, b.task.files[i]) })
		})
	})
}

// file brings one file.
func (b *bundling) file(ctx context.Context, e *task) error {
	m, err := e.bundledMove(ctx, b.folder.there)
	if err == nil && (m == nil || !m.brings()) {
		return nil
	}
	if err == nil {
		f := &bundled{move: m, next: m.next()}
		m.here = replica.Below(b.folder.here, f.next.Name)
		if f.file, err = b.bundle.Stage(ctx, b.task.carry.sender, m.file(), f.next.Name, m.options(&f.next)); err == nil {
			f.next.Digest = f.file.Digest
			b.mu.Lock()
			b.files = append(b.files, f)
			b.mu.Unlock()
			return nil
		}
		if errors.Is(err, tree.ErrChanged) {
			err = cmp.Or(m.reread(ctx), err)
		}
	}
	if fatal(ctx, err) {
		return err
	}
	return nil
}

// note saves what is there by now.
func (b *bundling) note(ctx context.Context, next replica.Record, entry tree.Entry) error {
	next.Seen = b.seenOf(entry)
	records := make([]replica.Record, 1, 1+len(b.files))
	records[0] = next
	c := replica.Change{Replica: b.task.carry.to.ID, Records: records, Queue: b.folder.tell(&next), Whole: next.Key}
	var others []replica.Change
	for _, f := range b.files {
		f.next.Seen = b.seenOf(f.file.Entry)
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
		f.received(f.next.Size)
	}
	return nil
}
