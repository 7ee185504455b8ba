package folder

import (
	"context"
	"encoding/binary"
	"errors"
	"iter"
	"os"
	"path"

	"golang.org/x/sys/unix"

	"bridgespan/guard"
	"bridgespan/tree"
)

// watched is what inotify(7) is asked to tell of each folder. That a time alone was
// set is told as a modification.
const watched = unix.IN_CREATE | unix.IN_DELETE | unix.IN_CLOSE_WRITE | unix.IN_MODIFY | unix.IN_ATTRIB | unix.IN_MOVED_FROM | unix.IN_MOVED_TO | unix.IN_ONLYDIR | unix.IN_DONT_FOLLOW | unix.IN_EXCL_UNLINK

// Watch yields the folders in which something changed, as the kernel tells
// (inotify). When more changed than it could keep, or there are more folders than
// may be watched, it yields tree.ErrMissed: all must be looked at.
func (t *Tree) Watch(ctx context.Context) iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		fd, err := unix.InotifyInit1(unix.IN_CLOEXEC | unix.IN_NONBLOCK)
		if err != nil {
			yield(".", classify("watch", ".", err))
			return
		}
		w := &watch{tree: t, events: os.NewFile(uintptr(fd), "inotify"), folders: map[int32]string{}}
		defer w.events.Close()
		defer context.AfterFunc(ctx, guard.Func(func() { w.events.Close() }))()
		if err := w.add(ctx, "."); err != nil && !yield(".", tree.PathError("watch", ".", errors.Join(tree.ErrMissed, err))) {
			return
		}
		if yield("", nil) { // from now on nothing is missed
			w.run(ctx, yield)
		}
	}
}

type watch struct {
	tree    *Tree
	events  *os.File
	folders map[int32]string // by the number of the watch
}

// add watches a folder and all below it.
func (w *watch) add(ctx context.Context, name string) error {
	if tree.Reserved(path.Base(name)) {
		return nil
	}
	f, err := w.tree.open(name, unix.O_PATH|unix.O_DIRECTORY|unix.O_NOFOLLOW, 0)
	if err != nil {
		return nil // it went meanwhile
	}
	number, err := unix.InotifyAddWatch(int(w.events.Fd()), procPath(int(f.Fd())), watched&^unix.IN_DONT_FOLLOW)
	f.Close()
	if err != nil {
		return err
	}
	w.folders[int32(number)] = name
	for e, err := range w.tree.List(ctx, name, tree.Bare) {
		if err == nil && e.Kind == tree.Folder {
			if err := w.add(ctx, path.Join(name, e.Name)); err != nil {
				return err
			}
		}
	}
	return nil
}

// run yields what changes until ctx ends or nobody wants more.
func (w *watch) run(ctx context.Context, yield func(string, error) bool) {
	buffer := make([]byte, 64<<10)
	for {
		n, err := w.events.Read(buffer)
		if err != nil {
			if ctx.Err() == nil {
				yield(".", classify("watch", ".", err))
			}
			return
		}
		told := map[string]bool{} // one folder once for what came together
		for rest := buffer[:n]; len(rest) >= unix.SizeofInotifyEvent; {
			number, mask := int32(binary.NativeEndian.Uint32(rest)), binary.NativeEndian.Uint32(rest[4:])
			length := int(binary.NativeEndian.Uint32(rest[12:]))
			name := cString(rest[unix.SizeofInotifyEvent : unix.SizeofInotifyEvent+length])
			rest = rest[unix.SizeofInotifyEvent+length:]
			if !w.tell(ctx, number, mask, name, told, yield) {
				return
			}
		}
	}
}

func cString(b []byte) string {
	for i, c := range b {
		if c == 0 {
			return string(b[:i])
		}
	}
	return string(b)
}

// tell yields one event, and reports whether to go on.
func (w *watch) tell(ctx context.Context, number int32, mask uint32, name string, told map[string]bool, yield func(string, error) bool) bool {
	if mask&unix.IN_Q_OVERFLOW != 0 {
		return yield(".", tree.PathError("watch", ".", tree.ErrMissed))
	}
	folder, known := w.folders[number]
	if !known {
		return true
	}
	if mask&unix.IN_IGNORED != 0 {
		delete(w.folders, number)
		return true
	}
	if tree.Reserved(name) {
		return true
	}
	if mask&unix.IN_ISDIR != 0 && mask&(unix.IN_CREATE|unix.IN_MOVED_TO) != 0 {
		if err := w.add(ctx, path.Join(folder, name)); err != nil && !yield(".", tree.PathError("watch", folder, errors.Join(tree.ErrMissed, err))) {
			return false
		}
	}
	if told[folder] {
		return true
	}
	told[folder] = true
	return yield(folder, nil)
}
