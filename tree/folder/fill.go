package folder

import (
	"context"
	"errors"
	"fmt"
	"time"

	"golang.org/x/sys/unix"

	"bridgespan/tree"
)

// Stub is an open stub that is filled.
type Stub struct {
	tree.Mark
	Size   int64 // of the content
	Length int64 // of the file, at most Size: programs may have truncated it

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
	st, err := statOf(s.fd)
	if err != nil {
		return err
	}
	p = p[:max(0, min(int64(len(p)), st.Size-at))] // a program may have truncated the file meanwhile
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
