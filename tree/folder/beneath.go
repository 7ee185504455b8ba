package folder

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"sync/atomic"

	"golang.org/x/sys/unix"
)

// lacksOpenat2 is set when the kernel does not know openat2(2); os.Root then
// walks to files element by element.
var lacksOpenat2 atomic.Bool

// openTries bounds how often a file is opened anew while folders above it are renamed.
const openTries = 100

// open opens what is below the root, whatever links say: openat2(2) with
// RESOLVE_BENEATH does in one call what os.Root does in one for each element.
func (t *Tree) open(name string, flags int, mode fs.FileMode) (*os.File, error) {
	fd, err := t.openBare(name, flags, mode)
	if err != nil {
		return nil, err
	}
	return os.NewFile(uintptr(fd), name), nil
}

// openBare is open for who uses the file alone and closes it: to make an *os.File of a
// small file, and to close that, takes about a third of the time that opening it does.
func (t *Tree) openBare(name string, flags int, mode fs.FileMode) (fd int, err error) {
	if lacksOpenat2.Load() {
		return t.openByElements(name, flags, mode)
	}
	how := unix.OpenHow{Flags: uint64(flags) | unix.O_CLOEXEC | unix.O_LARGEFILE, Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_MAGICLINKS}
	if flags&os.O_CREATE != 0 {
		how.Mode = uint64(mode.Perm())
	}
	for try := 0; ; try++ {
		fd, err := unix.Openat2(int(t.top.Fd()), name, &how)
		switch {
		case err == nil:
			return fd, nil
		case try < openTries && (errors.Is(err, unix.EINTR) || errors.Is(err, unix.EAGAIN)): // EAGAIN: something above was renamed just now
			continue
		case errors.Is(err, unix.ENOSYS), errors.Is(err, unix.EPERM) && flags&os.O_CREATE == 0:
			lacksOpenat2.Store(errors.Is(err, unix.ENOSYS))
			return t.openByElements(name, flags, mode)
		default:
			return -1, &fs.PathError{Op: "open", Path: name, Err: err}
		}
	}
}

func (t *Tree) openByElements(name string, flags int, mode fs.FileMode) (fd int, err error) {
	f, err := t.root.OpenFile(name, flags, mode)
	if err != nil {
		return -1, err
	}
	defer f.Close()
	return unix.FcntlInt(f.Fd(), unix.F_DUPFD_CLOEXEC, 0)
}

// bare is an open file, as a writer.
type bare int

func (b bare) Write(p []byte) (n int, err error) {
	for n < len(p) {
		k, err := unix.Write(int(b), p[n:])
		switch {
		case err == unix.EINTR:
		case err != nil:
			return n, err
		case k == 0:
			return n, io.ErrUnexpectedEOF
		default:
			n += k
		}
	}
	return n, nil
}

// ReadAt follows [io.ReaderAt].
func (b bare) ReadAt(p []byte, at int64) (n int, err error) {
	for n < len(p) {
		k, err := unix.Pread(int(b), p[n:], at+int64(n))
		switch {
		case err == unix.EINTR:
		case err != nil:
			return n, err
		case k == 0:
			return n, io.EOF
		default:
			n += k
		}
	}
	return n, nil
}

// flush makes what was written lasting.
func (b bare) flush() error {
	for {
		if err := unix.Fsync(int(b)); err != unix.EINTR {
			return err
		}
	}
}

// in calls do with the folder that a name is in, open, and its last element.
func (t *Tree) in(name string, do func(folder int, last string) error) error {
	above, last := path.Split(name)
	if above == "" {
		return do(int(t.top.Fd()), last)
	}
	f, err := t.open(path.Clean(above), unix.O_PATH|unix.O_DIRECTORY, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	return do(int(f.Fd()), last)
}

// lstat describes an entry without following a link.
func (t *Tree) lstat(name string) (st unix.Stat_t, err error) {
	if name == "." {
		return st, unix.Fstat(int(t.top.Fd()), &st)
	}
	err = t.in(name, func(folder int, last string) error {
		return unix.Fstatat(folder, last, &st, unix.AT_SYMLINK_NOFOLLOW)
	})
	return st, err
}
