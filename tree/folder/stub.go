package folder

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path"
	"time"

	"golang.org/x/sys/unix"

	"bridgespan/tree"
)

// stubXattr marks a stub. It is of the class that only the system's administrator can read
// and set: a mark says which object a reader is given.
const stubXattr = "trusted.bspan.stub"

// Fetcher fills stubs of a folder.
type Fetcher interface {
	// Holds reports whether files of a folder may be stubs now.
	Holds(folder string) bool
	// Fill makes bytes of a stub that is open for reading and writing be there, and says when
	// they are. A file that is whole already is left as it is.
	Fill(ctx context.Context, f *os.File, name string, at, n int64) error
	// Offload calls do, which makes a stub of an open file on which there is a [Lease]. From then on it is a stub for
	// whoever opens it. It returns [tree.ErrInUse], and has done nothing, when somebody is about to.
	Offload(f *os.File, do func() error) error
}

// FetchWith lets a fetcher fill the stubs of this tree, and those of the trees within it that are
// opened from now on. It must be called before the tree is used. Without one, stubs are stubs that nobody can read.
func (t *Tree) FetchWith(f Fetcher) { t.fetcher = f }

func (t *Tree) stubs() bool { return t.fetcher != nil && t.fetcher.Holds(t.within) }

// stub is what is kept with a stub.
type stub struct {
	tree.Mark
	Size int64     `json:"size"`
	At   time.Time `json:"at"` // modification time of the file itself
}

// markOf reads the mark of an open file.
func markOf(fd int) (s stub, marked bool, err error) {
	b, err := readXattr(fd, stubXattr)
	if err != nil || b == nil {
		if errors.Is(err, unix.EOPNOTSUPP) {
			err = nil
		}
		return s, false, err
	}
	if err := json.Unmarshal(b, &s); err != nil {
		return s, true, fmt.Errorf("the mark of a stub cannot be read: %w", err)
	}
	return s, true, nil
}

func setMark(fd int, s stub) error {
	b, err := json.Marshal(s)
	if err != nil {
		return err
	}
	err = unix.Fsetxattr(fd, stubXattr, b, 0)
	if errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.EPERM) {
		err = fmt.Errorf("%w: the file system keeps no marks of stubs, or this process may not set them", tree.ErrUnsupported)
	}
	return err
}

// unmark makes a whole file of an open stub.
func unmark(fd int) error {
	if err := unix.Fremovexattr(fd, stubXattr); err != nil && !errors.Is(err, unix.ENODATA) {
		return err
	}
	return showWhole(fd)
}

// stands reports whether a mark is that of the file as it is now. People who write to a stub
// that nobody watches, or cut it, make another file of it; a new time alone does not.
func (s *stub) stands(fd int, st *unix.Stat_t) bool {
	return st.Size == s.Size && (time.Unix(st.Mtim.Unix()).Equal(s.At) || !holds(fd))
}

// holds reports whether anything at all of an open file has been written.
func holds(fd int) bool {
	_, err := unix.Seek(fd, 0, unix.SEEK_DATA)
	return !errors.Is(err, unix.ENXIO)
}

// residencyOf tells whether an open file is a stub: whether it has a mark, and anything could be missing of it.
func residencyOf(fd int, st *unix.Stat_t) tree.Residency {
	if st.Size == 0 {
		return tree.Whole
	}
	if _, marked, _ := markOf(fd); marked {
		return tree.Stub
	}
	return tree.Whole
}

// renewMark lets the mark of an open file, if it has one that stands, stand with another modification time.
func renewMark(fd int, at time.Time) error {
	s, marked, err := markOf(fd)
	if err != nil || !marked {
		return err
	}
	st, err := statOf(fd)
	if err != nil || !s.stands(fd, &st) {
		return err
	}
	s.At = at
	return setMark(fd, s)
}

// openStub opens a stub for ranged reads, which fill it.
func (t *Tree) openStub(name string, entry tree.Entry) (tree.Content, error) {
	f, err := t.open(name, os.O_RDWR|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, classify("open", name, err)
	}
	return &stubContent{content{f, entry}, t, name}, nil
}

// StageStub stages a file without its content.
func (t *Tree) StageStub(ctx context.Context, name string, mark tree.Mark, options tree.PutOptions) (tree.Entry, error) {
	if err := begin(ctx, "stage", name); err != nil {
		return tree.Entry{}, err
	}
	if !t.stubs() || options.Size == 0 {
		return tree.Entry{}, tree.PathError("stage", name, tree.ErrUnsupported)
	}
	fd, err := t.openBare(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o666)
	if err != nil {
		return tree.Entry{}, classify("stage", name, err)
	}
	defer unix.Close(fd)
	st, err := t.makeStub(fd, mark, options)
	if err != nil {
		t.root.Remove(name)
		return tree.Entry{}, classify("stage", name, err)
	}
	e := made(path.Base(name), &st, options)
	e.Residency = tree.Stub
	return e, nil
}

// makeStub makes a stub of a new file. Its mark comes before its length: without the first,
// the second would show zeros.
func (t *Tree) makeStub(fd int, mark tree.Mark, options tree.PutOptions) (st unix.Stat_t, err error) {
	at := options.Meta.Modified
	if at.IsZero() {
		at = time.Now()
	}
	if err := setMark(fd, stub{mark, options.Size, at}); err != nil {
		return st, err
	}
	if err := unix.Ftruncate(fd, options.Size); err != nil {
		return st, err
	}
	options.Meta.Modified = at
	if err := t.set(fd, options.Meta, 0); err != nil {
		return st, err
	}
	if err := t.keeping.showStub(fd); err != nil {
		return st, err
	}
	return statOf(fd)
}

// Fetch fills a stub.
func (t *Tree) Fetch(ctx context.Context, name string) error {
	return t.FetchPart(ctx, name, 0, math.MaxInt64)
}

// FetchPart fills a part of a stub.
func (t *Tree) FetchPart(ctx context.Context, name string, at, n int64) error {
	if err := begin(ctx, "fetch", name); err != nil {
		return err
	}
	f, err := t.open(name, os.O_RDWR|unix.O_NONBLOCK, 0)
	if err != nil {
		return classify("fetch", name, err)
	}
	defer f.Close()
	st, err := statOf(int(f.Fd()))
	if err != nil || residencyOf(int(f.Fd()), &st) == tree.Whole {
		return classify("fetch", name, err)
	}
	if at < 0 || n <= 0 {
		return tree.PathError("fetch", name, fs.ErrInvalid)
	}
	if at >= st.Size { // people have cut it
		return nil
	}
	return t.fill(ctx, f, name, at, min(n, st.Size-at))
}

// fill fills a part of an open stub.
func (t *Tree) fill(ctx context.Context, f *os.File, name string, at, n int64) error {
	if t.fetcher == nil {
		return tree.PathError("fetch", name, tree.ErrStub)
	}
	return classify("fetch", name, t.fetcher.Fill(ctx, f, path.Join(t.within, name), at, n))
}

// Mark tells the mark of a stub.
func (t *Tree) Mark(ctx context.Context, name string) (tree.Mark, error) {
	f, err := t.openForMeta(ctx, "mark", name)
	if err != nil {
		return tree.Mark{}, err
	}
	defer f.Close()
	st, err := statOf(int(f.Fd()))
	if err != nil {
		return tree.Mark{}, classify("mark", name, err)
	}
	s, marked, err := markOf(int(f.Fd()))
	if err == nil && !(marked && s.stands(int(f.Fd()), &st)) {
		err = fmt.Errorf("%w: it is no stub", tree.ErrUnsupported)
	}
	return s.Mark, classify("mark", name, err)
}

// IsStub reports whether an open file is a stub. A stub that was truncated to nothing becomes a whole file: its holes are from then on
// those of a program.
func IsStub(fd int) (bool, error) {
	st, err := statOf(fd)
	if err != nil || st.Mode&unix.S_IFMT != unix.S_IFREG {
		return false, err
	}
	if st.Size > 0 {
		return residencyOf(fd, &st) == tree.Stub, nil
	}
	if _, marked, err := markOf(fd); err != nil || !marked {
		return false, err
	}
	return false, unmark(fd)
}

// Reopen opens an open file once more, for reading and writing.
func Reopen(fd int) (*os.File, error) {
	return os.OpenFile(procPath(fd), os.O_RDWR|unix.O_NONBLOCK|unix.O_CLOEXEC, 0)
}

// Duplicate is another number of an open file.
func Duplicate(fd int) (*os.File, error) {
	other, err := unix.FcntlInt(uintptr(fd), unix.F_DUPFD_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	return os.NewFile(uintptr(other), "duplicate"), nil
}
