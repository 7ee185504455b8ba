package folder

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"time"

	"golang.org/x/sys/unix"

	"bridgespan/tree"
)

// Lease blocks opens of a file by other processes until the file is closed here, or the kernel breaks the lease (fcntl(2), leases). It returns
// [tree.ErrInUse] when another process has the file open or is opening it, also where a lease is there already.
func Lease(f *os.File) error {
	_, err := unix.FcntlInt(f.Fd(), unix.F_SETLEASE, unix.F_WRLCK)
	if errors.Is(err, unix.EAGAIN) {
		return tree.ErrInUse
	}
	return err
}

// Offload frees the blocks of a file. The mark is durable before the first of them goes. For
// as long as that takes, whoever opens the file waits: a lease keeps them from it
// ([fcntl(2)]), and is not granted where somebody has it open.
func (t *Tree) Offload(ctx context.Context, name string, expected tree.Entry, mark tree.Mark) (tree.Entry, error) {
	if err := begin(ctx, "offload", name); err != nil {
		return tree.Entry{}, err
	}
	if !t.stubs() {
		return tree.Entry{}, tree.PathError("offload", name, tree.ErrUnsupported)
	}
	f, err := t.open(name, os.O_RDWR|unix.O_NONBLOCK|unix.O_NOFOLLOW, 0)
	if err != nil {
		return tree.Entry{}, classify("offload", name, err)
	}
	defer f.Close()
	if err := t.offload(f, expected, mark); err != nil {
		return tree.Entry{}, classify("offload", name, err)
	}
	st, err := statOf(int(f.Fd()))
	return t.entryOf(int(f.Fd()), path.Base(name), &st), classify("offload", name, err)
}

func (t *Tree) offload(f *os.File, expected tree.Entry, mark tree.Mark) error {
	fd := int(f.Fd())
	if err := Lease(f); err != nil {
		return err
	}
	st, err := statOf(fd)
	switch {
	case err != nil:
		return err
	case st.Mode&unix.S_IFMT != unix.S_IFREG:
		return tree.ErrKind
	case st.Nlink > 1:
		return fmt.Errorf("%w: the file has other names (hard links)", tree.ErrInUse)
	case st.Size != expected.Size || !time.Unix(st.Mtim.Unix()).Equal(expected.Modified) || expected.ID != 0 && expected.ID != st.Ino:
		return tree.ErrVersion
	case st.Size == 0:
		return fmt.Errorf("%w: it is empty", tree.ErrUnsupported)
	}
	if s, marked, err := markOf(fd); err != nil || marked {
		if err == nil && !s.stands(fd, &st) {
			err = tree.ErrVersion
		}
		if err != nil {
			return err
		}
		mark = s.Mark // it is a stub of which a part was read
	}
	return t.fetcher.Offload(f, func() error { return t.offloadOpen(f, stub{mark, st.Size, expected.Modified}) })
}

// offloadOpen marks an open file that nobody else has open, and frees its blocks.
func (t *Tree) offloadOpen(f *os.File, s stub) error {
	fd := int(f.Fd())
	if err := setMark(fd, s); err != nil {
		return err
	}
	if err := t.keeping.showStub(fd); err != nil {
		return err
	}
	if err := bare(fd).flush(); err != nil {
		return err
	}
	if err := Lease(f); err != nil { // the stub is complete: nothing was freed yet
		return err
	}
	return empty(fd, s.At)
}

// empty frees the blocks of a file, and leaves it its length and its time.
func empty(fd int, at time.Time) error {
	st, err := statOf(fd)
	if err == nil {
		err = unix.Fallocate(fd, unix.FALLOC_FL_PUNCH_HOLE|unix.FALLOC_FL_KEEP_SIZE, 0, roundUp(st.Size))
	}
	if errors.Is(err, unix.EOPNOTSUPP) {
		err = fmt.Errorf("%w: the file system cannot free the blocks of a file", tree.ErrUnsupported)
	}
	if err == nil {
		err = setModified(fd, at)
	}
	if err == nil {
		err = bare(fd).flush()
	}
	return err
}

// TryStubs tries whether the file system of a folder can hold stubs: it keeps marks, and frees the blocks of a file. The folder does not
// change: the file for this has no name.
func TryStubs(dir string) error {
	f, err := os.OpenFile(dir, unix.O_TMPFILE|os.O_RDWR, 0o600)
	if errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.EISDIR) {
		return fmt.Errorf("%w: the file system supports no unnamed files, and is none that can hold stubs", tree.ErrUnsupported)
	}
	if err != nil {
		return err
	}
	defer f.Close()
	fd, now := int(f.Fd()), time.Now()
	if err := setMark(fd, stub{Size: FillUnit, At: now}); err != nil {
		return err
	}
	if _, err := f.Write(make([]byte, FillUnit)); err != nil {
		return err
	}
	if err := empty(fd, now); err != nil {
		return err
	}
	if holds(fd) {
		return fmt.Errorf("%w: the file system does not report holes", tree.ErrUnsupported)
	}
	return nil
}
