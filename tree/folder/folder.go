// Package folder gives a folder of this host as a tree.
//
// It stays inside its root whatever symbolic links say (os.Root), and keeps
// descriptors and attributes in extended attributes of the files themselves.
package folder

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"os"
	"path"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"bridgespan/core/acl"
	"bridgespan/tree"
)

// Tree is a folder of this host.
type Tree struct {
	root *os.Root
	// descriptors is false on a file system without extended attributes.
	descriptors bool
}

// Open opens a folder of this host as a tree.
func Open(dir string) (*Tree, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	t := &Tree{root: root}
	t.descriptors = t.probeXattr()
	return t, nil
}

func (t *Tree) probeXattr() bool {
	f, err := t.root.Open(".")
	if err != nil {
		return false
	}
	defer f.Close()
	_, err = unix.Fgetxattr(int(f.Fd()), descriptorXattr, nil)
	return err == nil || errors.Is(err, unix.ENODATA)
}

func (t *Tree) Capabilities() tree.Capabilities {
	return tree.Capabilities{CaseSensitive: true, Descriptors: t.descriptors, IDs: true, MaxName: 255}
}

func (t *Tree) Close() error { return t.root.Close() }

func begin(ctx context.Context, op, name string) error {
	if err := tree.CheckName(op, name); err != nil {
		return err
	}
	return tree.PathError(op, name, ctx.Err())
}

// classify gives an error of the host the form that package tree promises.
func classify(op, name string, err error) error {
	if err == nil {
		return nil
	}
	for from, to := range map[error]error{
		unix.ENOSPC: tree.ErrNoSpace, unix.EDQUOT: tree.ErrNoSpace, unix.ENOTEMPTY: tree.ErrNotEmpty,
		unix.ETXTBSY: tree.ErrInUse, unix.EBUSY: tree.ErrInUse,
		unix.EISDIR: tree.ErrKind, unix.ENOTDIR: tree.ErrKind, unix.ENAMETOOLONG: fs.ErrInvalid,
	} {
		if errors.Is(err, from) {
			return tree.PathError(op, name, fmt.Errorf("%w: %w", to, err))
		}
	}
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		err = pathError.Err
	}
	return tree.PathError(op, name, err)
}

func (t *Tree) Stat(ctx context.Context, name string) (tree.Entry, error) {
	if err := begin(ctx, "stat", name); err != nil {
		return tree.Entry{}, err
	}
	info, err := t.root.Lstat(name)
	if err != nil {
		return tree.Entry{}, classify("stat", name, err)
	}
	entry := toEntry(info)
	entry.Name = path.Base(name)
	if t.descriptors && entry.Kind <= tree.Folder {
		if f, err := t.root.Open(name); err == nil {
			entry.Attributes = readAttributes(f)
			f.Close()
		}
	}
	return entry, nil
}

func toEntry(info fs.FileInfo) tree.Entry {
	e := tree.Entry{Name: info.Name(), Modified: info.ModTime()}
	switch mode := info.Mode(); {
	case mode.IsRegular():
		e.Size = info.Size()
	case mode.IsDir():
		e.Kind = tree.Folder
	case mode&fs.ModeSymlink != 0:
		e.Kind = tree.Link
	default:
		e.Kind = tree.Other
	}
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		e.ID = st.Ino
		if e.Kind == tree.File {
			e.Allocated = st.Blocks * 512
		}
	}
	return e
}

// listBatch is how many entries of a folder are held at once.
const listBatch = 1024

func (t *Tree) List(ctx context.Context, name string, detail tree.Detail) iter.Seq2[tree.Entry, error] {
	return func(yield func(tree.Entry, error) bool) {
		if err := t.list(ctx, name, detail, yield); err != nil {
			yield(tree.Entry{}, err)
		}
	}
}

func (t *Tree) list(ctx context.Context, name string, detail tree.Detail, yield func(tree.Entry, error) bool) error {
	if err := begin(ctx, "list", name); err != nil {
		return err
	}
	dir, err := t.root.Open(name)
	if err != nil {
		return classify("list", name, err)
	}
	defer dir.Close()
	for {
		if err := ctx.Err(); err != nil {
			return tree.PathError("list", name, err)
		}
		infos, err := dir.Readdir(listBatch)
		for _, info := range infos {
			entry := toEntry(info)
			var itsError error
			if t.descriptors && entry.Kind <= tree.Folder {
				itsError = t.details(path.Join(name, entry.Name), detail, &entry)
			}
			if !yield(entry, itsError) {
				return nil
			}
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return classify("list", name, err)
		}
	}
}

// details fills in what extended attributes hold.
func (t *Tree) details(name string, detail tree.Detail, entry *tree.Entry) error {
	f, err := t.root.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // it went since it was listed
	}
	if err != nil {
		return classify("list", name, err)
	}
	defer f.Close()
	entry.Attributes = readAttributes(f)
	if detail != tree.WithDescriptors {
		return nil
	}
	entry.Descriptor, err = readDescriptor(f)
	return classify("list", name, err)
}

type content struct {
	*os.File
	entry tree.Entry
}

func (c *content) Entry() tree.Entry { return c.entry }

func (t *Tree) Open(ctx context.Context, name string) (tree.Content, error) {
	if err := begin(ctx, "open", name); err != nil {
		return nil, err
	}
	// O_NONBLOCK: opening a pipe must not wait for its writer.
	f, err := t.root.OpenFile(name, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, classify("open", name, err)
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = tree.ErrKind
	}
	if err != nil {
		f.Close()
		return nil, classify("open", name, err)
	}
	entry := toEntry(info)
	entry.Name = path.Base(name)
	return &content{f, entry}, nil
}

func (t *Tree) Put(ctx context.Context, name string, r io.Reader, options tree.PutOptions) (tree.Entry, error) {
	if err := begin(ctx, "put", name); err != nil {
		return tree.Entry{}, err
	}
	old, err := t.root.Lstat(name)
	switch {
	case err == nil && !old.Mode().IsRegular():
		return tree.Entry{}, tree.PathError("put", name, tree.ErrKind)
	case err == nil && !options.Replace:
		return tree.Entry{}, tree.PathError("put", name, fs.ErrExist)
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return tree.Entry{}, classify("put", name, err)
	}
	if len(path.Base(name)) > 255 {
		return tree.Entry{}, tree.PathError("put", name, fs.ErrInvalid)
	}
	if err == nil && options.Meta.Descriptor.IsZero() && t.descriptors {
		if options.Meta.Descriptor, err = t.Descriptor(ctx, name); err != nil {
			return tree.Entry{}, err
		}
	}
	staged := tree.StagingName(name, options)
	if err := t.stage(ctx, staged, r, options); err != nil {
		t.root.Remove(staged)
		return tree.Entry{}, classify("put", name, err)
	}
	if err := t.Rename(ctx, staged, name, options.Replace); err != nil {
		t.root.Remove(staged)
		return tree.Entry{}, err
	}
	t.syncFolder(path.Dir(name))
	return t.Stat(ctx, name)
}

// stage writes content, flushes it and sets what goes with it.
func (t *Tree) stage(ctx context.Context, staged string, r io.Reader, options tree.PutOptions) error {
	f, err := t.root.OpenFile(staged, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
	if err != nil {
		return err
	}
	defer f.Close()
	n, err := tree.Gather(ctx, f, r, options)
	if err != nil {
		return err
	}
	if err := t.applyTo(f, options.Meta); err != nil {
		return err
	}
	if err := f.Sync(); err != nil {
		return err
	}
	info, err := f.Stat()
	if err == nil && info.Size() != n {
		err = fmt.Errorf("%w: %d of %d bytes", tree.ErrTorn, info.Size(), n)
	}
	return err
}

// syncFolder makes a rename durable. A failure is not an error: the file itself is safe.
func (t *Tree) syncFolder(name string) {
	if dir, err := t.root.Open(name); err == nil {
		_ = dir.Sync()
		dir.Close()
	}
}

func (t *Tree) Mkdir(ctx context.Context, name string) error {
	if err := begin(ctx, "mkdir", name); err != nil {
		return err
	}
	return classify("mkdir", name, t.root.Mkdir(name, 0o777))
}

func (t *Tree) Remove(ctx context.Context, name string) error {
	if err := begin(ctx, "remove", name); err != nil {
		return err
	}
	if name == "." {
		return tree.PathError("remove", name, fmt.Errorf("%w: the root stays", fs.ErrInvalid))
	}
	return classify("remove", name, t.root.Remove(name))
}

func (t *Tree) Descriptor(ctx context.Context, name string) (acl.Descriptor, error) {
	f, err := t.openForMeta(ctx, "descriptor", name)
	if err != nil {
		return acl.Descriptor{}, err
	}
	defer f.Close()
	d, err := readDescriptor(f)
	return d, classify("descriptor", name, err)
}

func (t *Tree) Apply(ctx context.Context, name string, meta tree.Meta) error {
	f, err := t.openForMeta(ctx, "apply", name)
	if err != nil {
		return err
	}
	defer f.Close()
	return classify("apply", name, t.applyTo(f, meta))
}

func (t *Tree) openForMeta(ctx context.Context, op, name string) (*os.File, error) {
	if err := begin(ctx, op, name); err != nil {
		return nil, err
	}
	f, err := t.root.OpenFile(name, os.O_RDONLY|unix.O_NONBLOCK, 0)
	return f, classify(op, name, err)
}

func (t *Tree) applyTo(f *os.File, meta tree.Meta) error {
	if !t.descriptors && (meta.Attributes != nil || !meta.Descriptor.IsZero()) {
		return tree.ErrUnsupported
	}
	if meta.Attributes != nil {
		if err := writeAttributes(f, *meta.Attributes&tree.SettableAttributes); err != nil {
			return err
		}
	}
	if !meta.Descriptor.IsZero() {
		if err := writeDescriptor(f, meta.Descriptor); err != nil {
			return err
		}
	}
	if meta.Modified.IsZero() {
		return nil
	}
	return setModified(f, meta.Modified)
}

// setModified sets the modification time through the open file, so that no
// link can lead it elsewhere, and leaves the access time.
func setModified(f *os.File, modified time.Time) error {
	ts, err := unix.TimeToTimespec(modified)
	if err != nil {
		return fmt.Errorf("%w: time %v", fs.ErrInvalid, modified)
	}
	times := []unix.Timespec{{Nsec: unix.UTIME_OMIT}, ts}
	return unix.UtimesNanoAt(unix.AT_FDCWD, fmt.Sprintf("/proc/self/fd/%d", f.Fd()), times, 0)
}

func (t *Tree) Space(ctx context.Context) (tree.Space, error) {
	f, err := t.openForMeta(ctx, "space", ".")
	if err != nil {
		return tree.Space{}, err
	}
	defer f.Close()
	var st unix.Statfs_t
	if err := unix.Fstatfs(int(f.Fd()), &st); err != nil {
		return tree.Space{}, classify("space", ".", err)
	}
	return tree.Space{Total: int64(st.Blocks) * st.Bsize, Free: int64(st.Bavail) * st.Bsize}, nil
}
