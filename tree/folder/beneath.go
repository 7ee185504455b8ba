package folder

import (
	"errors"
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
	if lacksOpenat2.Load() {
		return t.root.OpenFile(name, flags, mode)
	}
	how := unix.OpenHow{Flags: uint64(flags) | unix.O_CLOEXEC | unix.O_LARGEFILE, Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_MAGICLINKS}
	if flags&os.O_CREATE != 0 {
		how.Mode = uint64(mode.Perm())
	}
	for try := 0; ; try++ {
		fd, err := unix.Openat2(int(t.top.Fd()), name, &how)
		switch {
		case err == nil:
			return os.NewFile(uintptr(fd), name), nil
		case try < openTries && (errors.Is(err, unix.EINTR) || errors.Is(err, unix.EAGAIN)): // EAGAIN: something above was renamed just now
			continue
		case errors.Is(err, unix.ENOSYS), errors.Is(err, unix.EPERM) && flags&os.O_CREATE == 0:
			lacksOpenat2.Store(errors.Is(err, unix.ENOSYS))
			return t.root.OpenFile(name, flags, mode)
		default:
			return nil, &fs.PathError{Op: "open", Path: name, Err: err}
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
