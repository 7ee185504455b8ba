package transfer

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"sync"

	"bridgespan/core/acl"
	"bridgespan/tree"
)

// Bounds of a bundle: what is in it is seen only when all of it is there.
const (
	BundleLeast = 2         // files
	BundleMost  = 200       // files: servers look through a folder for each name
	BundleFile  = 256 << 10 // bytes of a file: a larger one spends most of its time by itself
	BundleBytes = 8 << 20   // bytes of all: what is interrupted is copied again
)

// Bundle is a folder that the destination lacks, with files right in it. It is made in the
// intake, all of it, and put in its place by one rename: over SMB that takes far less than
// placing each file. Its holder stages files, completes it, places it, and closes it.
type Bundle struct {
	Path string // where it waits

	to      *Endpoint
	release func()
	placed  bool

	mu    sync.Mutex
	files []*Bundled
}

// Bundled is a file of a bundle.
type Bundled struct {
	Staged
	file File
}

// OpenBundle makes a bundle of so many bytes, when there is room for it.
func (e *Endpoint) OpenBundle(ctx context.Context, bytes int64, l *Limiter) (*Bundle, error) {
	b := &Bundle{to: e}
	err := l.Rest(func() (err error) {
		b.release, err = e.enter(ctx, bytes)
		return err
	})
	if err != nil {
		return nil, err
	}
	if b.Path, err = e.stagedName(ctx); err == nil {
		err = e.Tree.Mkdir(ctx, b.Path)
	}
	if err != nil {
		b.release()
		return nil, err
	}
	return b, nil
}

// Close gives the room of a bundle back, and removes it unless it was placed.
func (b *Bundle) Close(ctx context.Context) {
	if !b.placed {
		_ = b.to.DropFolder(ctx, b.Path)
	}
	b.release()
}

// Stage copies a file into the bundle. It may be called side by side.
func (b *Bundle) Stage(ctx context.Context, from *Endpoint, f File, name string, o Options) (*Bundled, error) {
	t := &task{from: from, to: b.to, file: f, Options: o, staged: path.Join(b.Path, name), listed: true}
	entry, err := t.run(ctx)
	if err != nil {
		return nil, err
	}
	one := &Bundled{Staged{t.staged, entry, t.digest, t.saved, b.to, func() {}}, f}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.files = append(b.files, one)
	return one, nil
}

// Complete makes the bundle durable, compares the folder at the source with what was read in
// it, and gives the new folder what goes with it. It returns the folder as it is then and the
// files that are in it: what has changed at the source meanwhile is not among them.
func (b *Bundle) Complete(ctx context.Context, from *Endpoint, folder string, o Options) (tree.Entry, []*Bundled, error) {
	if err := o.Limiter.Rest(func() error { return b.to.Flush(ctx) }); err != nil {
		return tree.Entry{}, nil, err
	}
	if err := b.recheck(ctx, from, folder); err != nil {
		return tree.Entry{}, nil, err
	}
	if err := b.list(ctx); err != nil {
		return tree.Entry{}, nil, err
	}
	if o.Meta.Attributes != nil || o.Meta.Descriptor != (acl.Descriptor{}) {
		if err := b.to.Apply(ctx, b.Path, o.Meta); err != nil {
			return tree.Entry{}, nil, err
		}
	}
	entry, err := b.to.look(ctx, b.Path, o.Detail)
	return entry, b.files, err
}

// Place puts the bundle in its place. When something is there, it returns an error wrapping
// fs.ErrExist; with any other error it may be in its place all the same, and Close leaves it
// where it is.
func (b *Bundle) Place(ctx context.Context, name string) error {
	err := b.to.Tree.Rename(ctx, b.Path, name, false)
	b.placed = !errors.Is(err, fs.ErrExist)
	return err
}

// recheck lists the folder at the source, once, after its files were read. What is no longer
// as it was is dropped.
func (b *Bundle) recheck(ctx context.Context, from *Endpoint, folder string) error {
	files := b.byName(func(f *Bundled) string { return f.file.Path })
	unchanged := make(map[*Bundled]bool, len(b.files))
	for entry, err := range from.Tree.List(ctx, folder, tree.Bare) {
		if err != nil {
			return err
		}
		if f := files[entry.Name]; f != nil {
			unchanged[f] = same(f.file.Entry, entry)
		}
	}
	kept := b.files[:0]
	for _, f := range b.files {
		if unchanged[f] {
			kept = append(kept, f)
		} else if err := f.Drop(ctx); err != nil {
			return err
		}
	}
	b.files = kept
	return nil
}

// list reads at once what was staged, where that was not told of each file.
func (b *Bundle) list(ctx context.Context) error {
	files := b.byName(func(f *Bundled) string { return f.Path })
	for name, f := range files {
		if f.Entry.ID != 0 {
			delete(files, name)
		}
	}
	if len(files) == 0 {
		return nil
	}
	for entry, err := range b.to.Tree.List(ctx, b.Path, tree.Plain) {
		if err != nil {
			return err
		}
		f := files[entry.Name]
		if f == nil || entry.Kind != tree.File || entry.Size != f.Entry.Size {
			continue
		}
		entry.Descriptor = f.Entry.Descriptor
		f.Entry = entry
		delete(files, entry.Name)
	}
	for _, f := range files {
		return tree.PathError("stage", f.Path, tree.ErrTorn)
	}
	return nil
}

// byName are the files by the last element of a path of theirs.
func (b *Bundle) byName(of func(*Bundled) string) map[string]*Bundled {
	files := make(map[string]*Bundled, len(b.files))
	for _, f := range b.files {
		files[path.Base(of(f))] = f
	}
	return files
}
