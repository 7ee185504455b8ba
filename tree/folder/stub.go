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

// Lease lets whoever opens a file wait until it is closed here, for as long as the system lets them (fcntl(2), leases). It returns
// [tree.ErrInUse] when somebody else has it open or is about to, also when it was called before.
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
	if err := Lease(f); err != nil { // then it is a stub of which nothing is missing
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

// TryStubs tries in a folder of this host whether its file system can hold stubs: it keeps marks, and frees the blocks of a file.
func TryStubs(dir string) error {
	f, err := os.CreateTemp(dir, ".bspan-try-")
	if err != nil {
		return err
	}
	defer f.Close()
	defer os.Remove(f.Name())
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
		return fmt.Errorf("%w: the file system does not tell holes from content", tree.ErrUnsupported)
	}
	return nil
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

// Stub is an open stub that is filled.
type Stub struct {
	tree.Mark
	Size   int64 // of the content
	Length int64 // of what the file holds of it: people may have cut it

	fd     int
	stands bool
	at     unix.Timespec // modification time, which stays
}

// OpenedStub is the stub that is open as fd, for reading and writing; nil when the file is whole. One caller
// at a time may fill a stub.
func OpenedStub(fd int) (*Stub, error) {
	s, marked, err := markOf(fd)
	if err != nil || !marked {
		return nil, err
	}
	st, err := statOf(fd)
	if err != nil {
		return nil, err
	}
	return &Stub{Mark: s.Mark, Size: s.Size, Length: min(s.Size, st.Size), fd: fd, stands: s.stands(fd, &st), at: st.Mtim}, nil
}

// IsStub reports whether an open file is a stub. One that was cut to nothing is made a whole file: what is missing of
// it from now on are holes that people made.
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

// FillUnit is what a stub is filled by, in bytes: no file system has larger blocks, and only whole blocks tell whether
// they were written.
const FillUnit = 64 << 10

func roundUp(n int64) int64 { return (n + FillUnit - 1) / FillUnit * FillUnit }

// Missing are the parts of a range that are not there: each an offset and a length. The range is widened to
// units.
func (s *Stub) Missing(at, n int64) (holes [][2]int64, err error) {
	end := min(roundUp(at+n), s.Length)
	for at = at / FillUnit * FillUnit; at < end; {
		hole, err := unix.Seek(s.fd, at, unix.SEEK_HOLE)
		if err != nil {
			return nil, err
		}
		if hole >= end {
			break
		}
		data, err := unix.Seek(s.fd, hole, unix.SEEK_DATA)
		if errors.Is(err, unix.ENXIO) {
			data, err = end, nil
		}
		if err != nil {
			return nil, err
		}
		hole = hole / FillUnit * FillUnit // of a unit that was cut off, all is fetched again
		at = min(roundUp(data), end)
		holes = append(holes, [2]int64{hole, at - hole})
	}
	return holes, nil
}

// WriteAt fills what is missing of a part, with content that was fetched: whole units, or those up to the end. What it could not write is
// missing afterwards.
func (s *Stub) WriteAt(p []byte, at int64) error {
	holes, err := s.Missing(at, int64(len(p)))
	if err != nil {
		return err
	}
	for _, h := range holes {
		from, to := max(h[0], at), min(h[0]+h[1], at+int64(len(p)))
		if err = s.fill(p[from-at:to-at], from); err != nil {
			break
		}
	}
	return errors.Join(err, futimens(s.fd, []unix.Timespec{{Nsec: unix.UTIME_OMIT}, s.at}))
}

// fill fills a hole. A file system without space may have blocks of zeros by then after what was written, and would tell them for
// content: they are freed.
func (s *Stub) fill(p []byte, at int64) error {
	for n := 0; n < len(p); {
		k, err := unix.Pwrite(s.fd, p[n:], at+int64(n))
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			from := (at + int64(n)) / FillUnit * FillUnit
			return errors.Join(err, unix.Fallocate(s.fd, unix.FALLOC_FL_PUNCH_HOLE|unix.FALLOC_FL_KEEP_SIZE, from, roundUp(at+int64(len(p)))-from))
		}
		n += k
	}
	return nil
}

// HasHoles reports whether some of an open file is not there.
func HasHoles(fd int) (bool, error) {
	st, err := statOf(fd)
	if err != nil {
		return false, err
	}
	hole, err := unix.Seek(fd, 0, unix.SEEK_HOLE)
	if errors.Is(err, unix.ENXIO) { // it is empty
		return false, nil
	}
	return hole < st.Size, err
}

// Finish makes a whole file of a stub of which everything is there, and reports whether that is so. Content
// that is not what its mark says is dropped again, with an error wrapping [tree.ErrAltered].
func (s *Stub) Finish(ctx context.Context) (bool, error) {
	hole, err := unix.Seek(s.fd, 0, unix.SEEK_HOLE)
	if err != nil || hole < s.Length {
		return false, err
	}
	if err := bare(s.fd).flush(); err != nil {
		return false, err
	}
	if s.stands && s.Digest.Known() {
		d, err := tree.Sum(ctx, &filled{bare(s.fd), s.Size}, tree.BLAKE3, nil)
		if err != nil {
			return false, err
		}
		if d != s.Digest {
			bad := fmt.Errorf("%w: the content fetched for %s has another checksum", tree.ErrAltered, s.Path)
			return false, errors.Join(bad, empty(s.fd, time.Unix(s.at.Unix())))
		}
	}
	if err := unmark(s.fd); err != nil {
		return false, err
	}
	return true, bare(s.fd).flush()
}

// filled is the content of a stub that is all there.
type filled struct {
	bare
	size int64
}

func (f *filled) Close() error      { return nil }
func (f *filled) Entry() tree.Entry { return tree.Entry{Size: f.size} }

// stubContent is an open stub: what is read of it is fetched before.
type stubContent struct {
	content
	tree *Tree
	name string
}

// ReadAt follows [io.ReaderAt].
func (c *stubContent) ReadAt(p []byte, at int64) (int, error) {
	if n := min(int64(len(p)), c.entry.Size-at); n > 0 {
		if err := c.tree.fill(context.Background(), c.File, c.name, at, n); err != nil {
			return 0, err
		}
	}
	return c.File.ReadAt(p, at)
}
