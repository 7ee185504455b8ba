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
	"time"

	"golang.org/x/sys/unix"

	"bridgespan/core/acl"
	"bridgespan/tree"
)

// Tree is a folder of this host.
type Tree struct {
	root *os.Root
	top  *os.File // the root itself
	// descriptors is false on a file system without extended attributes.
	descriptors bool
	keeping     *Keeping
	// shared is true of a folder that programs of this host work in as well.
	shared bool
	// fetcher fills stubs; nil where nobody does. within is where the root is in the folder
	// that the fetcher knows.
	fetcher Fetcher
	within  string
}

// OpenShared is Open for a folder that programs of this host work in as well: what
// comes there out of an intake or an attic has owner, group and mode of what it
// replaces, or of its folder, before it is seen. keeping is how the folder keeps
// descriptors and attributes; nil is what this process may do best. What was kept in another
// way before is carried over.
func OpenShared(dir string, keeping *Keeping) (*Tree, error) {
	t, err := Open(dir)
	if err != nil {
		return nil, err
	}
	t.shared = true
	if keeping != nil {
		t.keepAs(keeping)
		if !t.descriptors || !administers() && keeping != OfAnybody {
			return nil, errors.Join(fmt.Errorf("%w: the file system does not keep %s, or this process may not set it", tree.ErrUnsupported, keeping.descriptors), t.Close())
		}
	}
	if err := t.adopt(context.Background()); err != nil {
		return nil, errors.Join(fmt.Errorf("carry over the permissions that were kept before: %w", err), t.Close())
	}
	return t, nil
}

// Open opens a folder of this host as a tree.
func Open(dir string) (*Tree, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	return over(root)
}

// Sub opens a folder within as a tree of its own.
func (t *Tree) Sub(ctx context.Context, name string) (tree.Tree, error) {
	if err := begin(ctx, "open", name); err != nil {
		return nil, err
	}
	root, err := t.root.OpenRoot(name)
	if err != nil {
		return nil, classify("open", name, err)
	}
	sub, err := over(root)
	if err != nil {
		return nil, err
	}
	sub.shared, sub.fetcher, sub.within = t.shared, t.fetcher, path.Join(t.within, name)
	sub.keepAs(t.keeping)
	return sub, nil
}

func over(root *os.Root) (*Tree, error) {
	t, err := &Tree{root: root}, error(nil)
	if t.top, err = root.Open("."); err != nil {
		_ = root.Close()
		return nil, err
	}
	if administers() {
		t.keepAs(Own)
	}
	if !t.descriptors {
		t.keepAs(OfAnybody)
	}
	return t, nil
}

// keepAs lets the tree keep descriptors and attributes in a way, if its file system can.
func (t *Tree) keepAs(k *Keeping) {
	_, err := unix.Fgetxattr(int(t.top.Fd()), k.descriptors, nil)
	t.keeping, t.descriptors = k, err == nil || errors.Is(err, unix.ENODATA)
}

func (t *Tree) Capabilities() tree.Capabilities {
	return tree.Capabilities{CaseSensitive: true, Descriptors: t.descriptors, Samba: t.keeping == OfSamba, IDs: true, MaxName: 255, Ranges: true, Grows: true, Stubs: t.stubs()}
}

func (t *Tree) Close() error { return errors.Join(t.top.Close(), t.root.Close()) }

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
	st, err := t.lstat(name)
	if err != nil {
		return tree.Entry{}, classify("stat", name, err)
	}
	if kind := st.Mode & unix.S_IFMT; t.descriptors && (kind == unix.S_IFREG || kind == unix.S_IFDIR) {
		if f, err := t.open(name, os.O_RDONLY|unix.O_NONBLOCK, 0); err == nil {
			defer f.Close()
			return t.entryOf(int(f.Fd()), path.Base(name), &st), nil
		}
	}
	return ofStat(path.Base(name), &st), nil
}

// entryOf is an entry that is open, with its attributes.
func (t *Tree) entryOf(fd int, name string, st *unix.Stat_t) tree.Entry {
	entry := ofStat(name, st)
	if !t.descriptors || entry.Kind > tree.Folder {
		return entry
	}
	entry.Attributes = t.keeping.readAttributes(fd)
	if entry.Kind == tree.File {
		entry.Residency = residencyOf(fd, st)
	}
	return entry
}

// ofStat is an entry as the kernel describes it.
func ofStat(name string, st *unix.Stat_t) tree.Entry {
	e := tree.Entry{Name: name, Modified: time.Unix(st.Mtim.Unix()), ID: st.Ino}
	switch st.Mode & unix.S_IFMT {
	case unix.S_IFREG:
		e.Size, e.Allocated = st.Size, st.Blocks*512
	case unix.S_IFDIR:
		e.Kind = tree.Folder
	case unix.S_IFLNK:
		e.Kind = tree.Link
	default:
		e.Kind = tree.Other
	}
	return e
}

func statOf(fd int) (st unix.Stat_t, err error) { return st, unix.Fstat(fd, &st) }

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
	dir, err := t.open(name, os.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return classify("list", name, err)
	}
	defer dir.Close()
	handed := &handing{}
	for {
		if err := ctx.Err(); err != nil {
			return tree.PathError("list", name, err)
		}
		names, err := dir.Readdirnames(listBatch)
		for _, last := range names {
			entry, itsError := t.listed(int(dir.Fd()), last, detail)
			if itsError == nil && detail == tree.WithDescriptors && t.descriptors && entry.Descriptor.IsZero() && entry.Kind <= tree.Folder {
				entry.Handed = true
				entry.Descriptor, itsError = handed.to(t, name, entry.Kind == tree.Folder)
			}
			if errors.Is(itsError, fs.ErrNotExist) {
				continue // it went since it was listed
			}
			if !yield(entry, classify("list", path.Join(name, last), itsError)) {
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

// listed describes an entry of an open folder. With an error beside a name, only
// what its extended attributes hold is not known.
func (t *Tree) listed(dir int, name string, detail tree.Detail) (tree.Entry, error) {
	var st unix.Stat_t
	if err := unix.Fstatat(dir, name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return tree.Entry{Name: name}, err
	}
	entry := ofStat(name, &st)
	if detail == tree.Bare && entry.Kind == tree.File {
		entry.Accessed = time.Unix(st.Atim.Unix())
	}
	seldom := detail == tree.Bare && (entry.Kind != tree.File || entry.Allocated >= entry.Size)
	if !t.descriptors || seldom || entry.Kind > tree.Folder || t.keeping.keepsNothing(dir, name) {
		return entry, nil
	}
	fd, err := unix.Openat(dir, name, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return entry, err
	}
	defer unix.Close(fd)
	accessed := entry.Accessed
	entry = t.entryOf(fd, name, &st)
	entry.Accessed = accessed
	if detail == tree.WithDescriptors {
		entry.Descriptor, err = t.keeping.readDescriptor(fd)
	}
	return entry, err
}

type content struct {
	*os.File
	entry tree.Entry
}

func (c *content) Entry() tree.Entry { return c.entry }

// Current describes the file as it is now.
func (c *content) Current(context.Context) (tree.Entry, error) {
	st, err := statOf(int(c.File.Fd()))
	now := ofStat(c.entry.Name, &st)
	now.Residency = c.entry.Residency
	return now, classify("stat", c.entry.Name, err)
}

func (t *Tree) Open(ctx context.Context, name string) (tree.Content, error) {
	if err := begin(ctx, "open", name); err != nil {
		return nil, err
	}
	// O_NONBLOCK: opening a pipe must not wait for its writer. O_NOATIME: that we read it is no use of a file.
	f, err := t.open(name, os.O_RDONLY|unix.O_NONBLOCK|unix.O_NOATIME, 0)
	if errors.Is(err, unix.EPERM) {
		f, err = t.open(name, os.O_RDONLY|unix.O_NONBLOCK, 0)
	}
	if err != nil {
		return nil, classify("open", name, err)
	}
	st, err := statOf(int(f.Fd()))
	if err == nil && st.Mode&unix.S_IFMT != unix.S_IFREG {
		err = tree.ErrKind
	}
	if err != nil {
		f.Close()
		return nil, classify("open", name, err)
	}
	entry := ofStat(path.Base(name), &st)
	if entry.Residency = residencyOf(int(f.Fd()), &st); entry.Residency == tree.Whole {
		return &content{f, entry}, nil
	}
	f.Close()
	return t.openStub(name, entry)
}

func (t *Tree) Put(ctx context.Context, name string, r io.Reader, options tree.PutOptions) (tree.Entry, error) {
	if err := begin(ctx, "put", name); err != nil {
		return tree.Entry{}, err
	}
	if options.Version != "" {
		return tree.Entry{}, tree.PathError("put", name, tree.ErrUnsupported)
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
	fd, err := t.openBare(staged, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	if _, err := t.gather(ctx, fd, r, options); err != nil {
		return err
	}
	return bare(fd).flush()
}

// syncFolder makes a rename durable. A failure is not an error: the file itself is safe.
func (t *Tree) syncFolder(name string) {
	if dir, err := t.open(name, os.O_RDONLY|unix.O_DIRECTORY, 0); err == nil {
		_ = dir.Sync()
		dir.Close()
	}
}

func (t *Tree) Mkdir(ctx context.Context, name string) error {
	if err := begin(ctx, "mkdir", name); err != nil {
		return err
	}
	err := t.root.Mkdir(name, 0o777)
	if err == nil {
		err = t.asOthers(name, name)
	}
	return classify("mkdir", name, err)
}

// MayWrite asks the kernel whether files may be made in a folder.
func (t *Tree) MayWrite(ctx context.Context, name string) error {
	if err := begin(ctx, "write", name); err != nil {
		return err
	}
	dir, err := t.open(name, os.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return classify("write", name, err)
	}
	defer dir.Close()
	return classify("write", name, unix.Faccessat(int(dir.Fd()), ".", unix.W_OK|unix.X_OK, 0))
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
	d, err := t.keeping.readDescriptor(int(f.Fd()))
	if err == nil && d.IsZero() && name != "." {
		var st unix.Stat_t
		if st, err = statOf(int(f.Fd())); err == nil {
			d, err = new(handing).to(t, path.Dir(name), st.Mode&unix.S_IFMT == unix.S_IFDIR)
		}
	}
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
	f, err := t.open(name, os.O_RDONLY|unix.O_NONBLOCK, 0)
	return f, classify(op, name, err)
}

func (t *Tree) applyTo(f *os.File, meta tree.Meta) error {
	var has tree.Attributes
	if meta.Attributes != nil {
		has = t.keeping.readAttributes(int(f.Fd()))
	}
	return t.set(int(f.Fd()), meta, has)
}

// set sets what goes with a file or folder that has some attributes.
func (t *Tree) set(fd int, meta tree.Meta, has tree.Attributes) error {
	if !t.descriptors && (meta.Attributes != nil || !meta.Descriptor.IsZero()) {
		return tree.ErrUnsupported
	}
	// Where nothing is kept, nothing is set: only what differs is written.
	if a := meta.Attributes; a != nil && (*a&tree.SettableAttributes) != has {
		if err := t.keeping.writeAttributes(fd, *a&tree.SettableAttributes); err != nil {
			return err
		}
	}
	if !meta.Descriptor.IsZero() {
		if err := t.keeping.writeDescriptor(fd, meta.Descriptor); err != nil {
			return err
		}
	}
	if meta.Modified.IsZero() {
		return nil
	}
	if err := renewMark(fd, meta.Modified); err != nil {
		return err
	}
	return setModified(fd, meta.Modified)
}

// setModified sets the modification time through the open file, so that no
// link can lead it elsewhere, and leaves the access time.
func setModified(fd int, modified time.Time) error {
	ts, err := unix.TimeToTimespec(modified)
	if err != nil {
		return fmt.Errorf("%w: time %v", fs.ErrInvalid, modified)
	}
	times := []unix.Timespec{{Nsec: unix.UTIME_OMIT}, ts}
	return futimens(fd, times)
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
	return tree.Space{Total: int64(st.Blocks) * st.Bsize, Free: int64(st.Bavail) * st.Bsize, Storage: storageOf(f, &st)}, nil
}
