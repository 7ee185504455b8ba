package tree

import (
	"context"
	"fmt"
	"hash/maphash"
	"io"
)

// readBack passes content on while it is stored, then reads it back and compares hashes. The
// key of the hash is random for each file and never leaves the process, so that nobody can
// construct other content with the same hash.
type readBack struct {
	content io.Reader
	sent    maphash.Hash
	at, n   int64 // where content begins in the file, and how much has come
}

func (s *readBack) Read(p []byte) (int, error) {
	n, err := s.content.Read(p)
	s.sent.Write(p[:n])
	s.n += int64(n)
	return n, err
}

// compare reads back what was stored, and returns ErrAltered when it differs from what was
// sent.
func (s *readBack) compare(ctx context.Context, file io.ReaderAt) error {
	var stored maphash.Hash
	stored.SetSeed(s.sent.Seed())
	if err := s.read(ctx, file, &stored); err != nil {
		return err
	}
	if stored.Sum64() != s.sent.Sum64() {
		return fmt.Errorf("%w: bytes %d to %d", ErrAltered, s.at, s.at+s.n)
	}
	return nil
}

// reopen compares a file that was closed already.
func (s *readBack) reopen(ctx context.Context, t Tree, name string) error {
	file, err := t.Open(ctx, name)
	if err != nil {
		return err
	}
	defer file.Close()
	return PathError("stage", name, s.compare(ctx, file))
}

func (s *readBack) read(ctx context.Context, file io.ReaderAt, into io.Writer) error {
	if s.n <= small {
		buffer := smallBuffers.Get().(*[small]byte)
		defer smallBuffers.Put(buffer)
		n, err := file.ReadAt(buffer[:s.n], s.at)
		if err == io.EOF { // what is missing shows in the hash
			err = nil
		}
		_, _ = into.Write(buffer[:n]) // a hash takes everything
		return err
	}
	stored := stream(ctx, file, [][2]int64{{s.at, s.n}})
	defer stored.Close()
	for {
		data, err := stored.Next(pieceSize)
		_, _ = into.Write(data)
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}
