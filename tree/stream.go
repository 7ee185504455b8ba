package tree

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"sync"

	"bridgespan/core/chunk"
	"bridgespan/guard"
)

// Reading ahead: while one piece is handed on, the next ones are on their way.
const (
	pieceSize   = 1 << 20
	piecesAhead = 4
)

var pieces = sync.Pool{New: func() any { return new([pieceSize]byte) }}

// Stream reads content from offset to its end, in order, several pieces
// ahead, within a few MiB of memory. The caller must close it; that does not
// close content. It ends with ctx.
func Stream(ctx context.Context, content Content, offset int64) *Reader {
	return stream(ctx, content, [][2]int64{{offset, max(content.Entry().Size-offset, 0)}})
}

// StreamLacking reads, in the same way, what the parts of a file take from content:
// those that another file does not hold.
// The caller must close it; that does not close content.
func StreamLacking(ctx context.Context, content io.ReaderAt, parts []chunk.Part) io.ReadCloser {
	if o, ok := content.(InOrder); ok {
		return io.NopCloser(o.Reader)
	}
	var ranges [][2]int64
	for _, p := range parts {
		if p.From < 0 {
			ranges = append(ranges, [2]int64{p.At, p.Length})
		}
	}
	return stream(ctx, content, ranges)
}

// InOrder is content of which only what the parts of a file lack is there, in their
// order.
type InOrder struct{ io.Reader }

// ReadAt returns ErrUnsupported: StreamLacking alone reads it.
func (InOrder) ReadAt([]byte, int64) (int, error) { return 0, ErrUnsupported }

// stream reads ranges, each an offset and a length, in order.
func stream(ctx context.Context, content io.ReaderAt, ranges [][2]int64) *Reader {
	ctx, cancel := context.WithCancel(ctx)
	s := &Reader{cancel: cancel, coming: make(chan chan piece, piecesAhead)}
	s.readers.Go(func() {
		defer close(s.coming)
		s.broken = guard.Call(func() error {
			for _, r := range ranges {
				if !s.request(ctx, content, r[0], r[1]) {
					return context.Cause(ctx)
				}
			}
			return nil
		})
	})
	return s
}

type piece struct {
	buffer *[pieceSize]byte
	data   []byte
	err    error
}

// Reader is what Stream returns.
type Reader struct {
	cancel  context.CancelFunc
	coming  chan chan piece // in order; each delivers one piece
	readers guard.WaitGroup
	now     piece
	broken  error // why not all was asked for; set before coming is closed
}

// request starts a read for every piece of a range, as far ahead as coming has
// room; false when ctx has ended.
func (s *Reader) request(ctx context.Context, content io.ReaderAt, offset, length int64) bool {
	for end := offset + length; offset < end; offset += pieceSize {
		delivery := make(chan piece, 1)
		select {
		case <-ctx.Done():
			return false
		case s.coming <- delivery:
		}
		at, want := offset, min(pieceSize, end-offset)
		s.readers.Go(func() { delivery <- readPiece(content, at, want) })
	}
	return true
}

func readPiece(content io.ReaderAt, offset, want int64) piece {
	p := piece{buffer: pieces.Get().(*[pieceSize]byte)}
	var n int
	err := guard.Call(func() (err error) {
		n, err = content.ReadAt(p.buffer[:want], offset)
		return err
	})
	p.data, p.err = p.buffer[:n], err
	if int64(n) == want {
		p.err = nil
	} else if err == io.EOF {
		p.err = fmt.Errorf("%w: it became shorter while it was read", ErrTorn)
	}
	return p
}

func (s *Reader) Read(p []byte) (int, error) {
	data, err := s.Next(int64(len(p)))
	return copy(p, data), err
}

// Next returns the next bytes, at most most of them, without copying. They
// stay valid until the next call of a method. At the end it returns io.EOF; when its
// context ended before, why: what was read until then is not the whole content.
func (s *Reader) Next(most int64) ([]byte, error) {
	for len(s.now.data) == 0 {
		if s.now.err != nil {
			return nil, s.now.err
		}
		s.drop()
		delivery, ok := <-s.coming
		if !ok {
			return nil, cmp.Or(s.broken, io.EOF)
		}
		s.now = <-delivery
	}
	data := s.now.data[:min(most, int64(len(s.now.data)))]
	s.now.data = s.now.data[len(data):]
	return data, nil
}

func (s *Reader) drop() {
	if s.now.buffer != nil {
		pieces.Put(s.now.buffer)
		s.now = piece{}
	}
}

func (s *Reader) Close() error {
	s.cancel()
	s.drop()
	for delivery := range s.coming {
		s.now = <-delivery
		s.drop()
	}
	s.readers.Wait()
	return nil
}

// Current is what a [Content] may offer beside reading: the file as it is now,
// under whatever name.
type Current interface {
	Current(ctx context.Context) (Entry, error)
}

// Unchanged reports whether an open file is as it was when it was opened, or as it
// was expected to be, as far as its number, its length and its time tell. Where Content does not offer that, what is
// under its name now is looked at.
func Unchanged(ctx context.Context, t Tree, name string, content Content) (bool, error) {
	var now Entry
	var err error
	if c, ok := As[Current](content); ok {
		now, err = c.Current(ctx)
	} else {
		now, err = t.Stat(ctx, name)
	}
	then := content.Entry()
	same := now.ID == 0 || then.ID == 0 || now.ID == then.ID
	return same && now.Size == then.Size && now.Modified.Equal(then.Modified), err
}

// Paced reads as fast as pass lets bytes pass: it is asked for what was read, and
// returns when that may go on.
func Paced(ctx context.Context, content io.Reader, pass func(ctx context.Context, bytes int) error) io.Reader {
	return &pacedReader{ctx: ctx, content: content, pass: pass}
}

type pacedReader struct {
	ctx     context.Context
	content io.Reader
	pass    func(context.Context, int) error
	bad     error // of pass: who has got all that was asked for has not looked at it
}

func (p *pacedReader) Read(buffer []byte) (int, error) {
	if p.bad != nil {
		return 0, p.bad
	}
	n, err := p.content.Read(buffer)
	if n > 0 {
		if p.bad = p.pass(p.ctx, n); p.bad != nil {
			return n, p.bad
		}
	}
	return n, err
}
