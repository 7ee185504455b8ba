package folder

import (
	"context"
	"fmt"
	"io"
	"os"
	"path"

	"golang.org/x/sys/unix"

	"bridgespan/tree"
)

// gather writes content and sets what goes with it.
func (t *Tree) gather(ctx context.Context, fd int, r io.Reader, options tree.PutOptions) (st unix.Stat_t, err error) {
	n, err := tree.Gather(ctx, bare(fd), r, options)
	if err != nil {
		return st, err
	}
	n += options.At
	if options.Whole(n) {
		if err := t.set(fd, options.Meta, 0); err != nil {
			return st, err
		}
	}
	if st, err = statOf(fd); err == nil && st.Size != n {
		err = fmt.Errorf("%w: %d of %d bytes", tree.ErrTorn, st.Size, n)
	}
	return st, err
}

// Stage writes a new file that is not flushed yet.
func (t *Tree) Stage(ctx context.Context, name string, r io.Reader, options tree.PutOptions) (tree.Entry, error) {
	if err := begin(ctx, "stage", name); err != nil {
		return tree.Entry{}, err
	}
	flags := os.O_RDWR | os.O_CREATE | os.O_EXCL
	if options.At > 0 {
		flags = os.O_RDWR | unix.O_NOFOLLOW | unix.O_NONBLOCK
	}
	fd, err := t.openBare(name, flags, 0o666)
	if err != nil {
		return tree.Entry{}, classify("stage", name, err)
	}
	defer unix.Close(fd)
	if options.At > 0 {
		err = goOn(fd, options.At)
	}
	var st unix.Stat_t
	if err == nil {
		st, err = t.gather(ctx, fd, r, options)
	}
	if err != nil {
		if options.At == 0 {
			t.root.Remove(name)
		}
		return tree.Entry{}, classify("stage", name, err)
	}
	if !options.Whole(st.Size) {
		options.Meta = tree.Meta{}
	}
	return made(path.Base(name), &st, options), nil
}

// goOn leaves a file the bytes before an offset, after which it is written.
func goOn(fd int, at int64) error {
	st, err := statOf(fd)
	switch {
	case err != nil:
		return err
	case st.Mode&unix.S_IFMT != unix.S_IFREG:
		return tree.ErrKind
	}
	if err := tree.GoesOn(st.Size, at); err != nil {
		return err
	}
	if err := unix.Ftruncate(fd, at); err != nil {
		return err
	}
	_, err = unix.Seek(fd, at, io.SeekStart)
	return err
}

// made is a file that was made just now as a listing shows it: nothing is kept with it
// but what was set.
func made(name string, st *unix.Stat_t, options tree.PutOptions) tree.Entry {
	e := ofStat(name, st)
	if a := options.Meta.Attributes; a != nil {
		e.Attributes = *a & tree.SettableAttributes
	}
	if options.Detail == tree.WithDescriptors {
		e.Descriptor = options.Meta.Descriptor
	}
	return e
}

// Flush makes everything lasting on the file system of the root.
func (t *Tree) Flush(ctx context.Context) error {
	if err := begin(ctx, "flush", "."); err != nil {
		return err
	}
	return classify("flush", ".", unix.Syncfs(int(t.top.Fd())))
}
