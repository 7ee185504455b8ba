package remote

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"sync"
	"time"

	"bridgespan/core/chunk"
	"bridgespan/guard"
	"bridgespan/tree"
)

// inline is how long a file may be, in bytes, that comes with the answer that
// opens it.
const inline = 64 << 10

// mostRead is how much is read by one request.
const mostRead = 1 << 20

// content is an open file.
type content struct {
	tree  *Tree
	ctx   context.Context // of whoever opened it: its end ends reads
	name  string
	entry tree.Entry
	all   []byte // when it is at hand

	mu   sync.Mutex
	file string // as the mover knows it; "" when all is at hand
}

func (t *Tree) Open(ctx context.Context, name string) (tree.Content, error) {
	a, rest, end, err := t.begin(ctx, "open", name, call{Length: inline}, nil)
	if err != nil {
		return nil, err
	}
	defer end()
	e, err := t.entryOf("open", name, a)
	if err != nil {
		return nil, err
	}
	c := &content{tree: t, ctx: ctx, name: name, entry: e, file: a.File}
	if a.File != "" {
		return c, nil
	}
	if e.Size > inline {
		return nil, tree.PathError("open", name, t.host.Distrust("it sends %d bytes with an answer, of at most %d", e.Size, inline))
	}
	c.all = make([]byte, c.entry.Size)
	if _, err := io.ReadFull(rest, c.all); err != nil {
		return nil, tree.PathError("open", name, fmt.Errorf("%w: %w", tree.ErrUnreachable, err))
	}
	return c, nil
}

func (c *content) Entry() tree.Entry { return c.entry }

// known is the file as the mover knows it.
func (c *content) known() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.file
}

// with does something with the open file. A mover closes one that was not used for
// long, while its lane was closed, say: it is opened again, if it is the same still.
func (c *content) with(ctx context.Context, do func(file string) error) error {
	file := c.known()
	err := do(file)
	if !errors.Is(err, errClosed) {
		return err
	}
	if bad := c.reopen(ctx, file); bad != nil {
		return errors.Join(err, bad)
	}
	return do(c.known())
}

// reopen opens a file again that was known under a name, unless somebody has.
func (c *content) reopen(ctx context.Context, was string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.file != was {
		return nil
	}
	a, err := c.tree.call(ctx, "open", c.name, call{}, nil)
	if err != nil {
		return err
	}
	e := fromWire(a.Entry)
	if a.File == "" || e.ID != c.entry.ID || e.Size != c.entry.Size || !e.Modified.Equal(c.entry.Modified) {
		return tree.PathError("open", c.name, fmt.Errorf("%w: another file is there by now", fs.ErrNotExist))
	}
	c.file = a.File
	return nil
}

// Current describes the file as it is now. One that is at hand was read as it was
// at one moment; what becomes of it later is another matter.
func (c *content) Current(ctx context.Context) (tree.Entry, error) {
	if c.all != nil {
		return c.entry, nil
	}
	var e tree.Entry
	err := c.with(ctx, func(file string) (err error) {
		e, err = c.tree.described(ctx, "current", c.name, call{File: file}, nil)
		return err
	})
	return e, err
}

func (c *content) ReadAt(p []byte, at int64) (n int, err error) {
	if c.all != nil {
		if at >= int64(len(c.all)) {
			return 0, io.EOF
		}
		if n = copy(p, c.all[at:]); n < len(p) {
			err = io.EOF
		}
		return n, err
	}
	for n < len(p) && err == nil {
		more := 0
		err = c.with(c.ctx, func(file string) (err error) {
			more, err = c.read(file, p[n:min(len(p), n+mostRead)], at+int64(n))
			return err
		})
		n += more
	}
	return n, err
}

// read reads with one request.
func (c *content) read(file string, p []byte, at int64) (int, error) {
	if at >= c.entry.Size { // as far as it reached when it was opened
		return 0, io.EOF
	}
	body, end, err := c.tree.host.send(c.ctx, c.tree.folder, "read", call{Sub: c.tree.sub, Name: c.name, File: file, At: at, Length: len(p)}, nil)
	if err != nil {
		return 0, tree.PathError("read", c.name, err)
	}
	defer end()
	n, err := io.ReadFull(body, p)
	switch {
	case err == io.ErrUnexpectedEOF && at+int64(n) >= c.entry.Size, err == io.EOF:
		return n, io.EOF
	case c.ctx.Err() != nil:
		return n, tree.PathError("read", c.name, c.ctx.Err())
	case err != nil:
		return n, tree.PathError("read", c.name, fmt.Errorf("%w: %w", tree.ErrUnreachable, err))
	}
	return n, nil
}

// Sum hashes the file where it lies; a short one, here.
func (c *content) Sum(ctx context.Context, by tree.Hash) (d [32]byte, err error) {
	if c.all != nil {
		return tree.Sum(ctx, &atHand{c}, by, nil)
	}
	err = c.with(ctx, func(file string) error {
		a, err := c.tree.call(ctx, "sum", c.name, call{File: file, Hash: by}, nil)
		if err == nil && copy(d[:], a.Digest) != len(d) {
			err = tree.PathError("sum", c.name, c.tree.host.Distrust("a hash of %d bytes", len(a.Digest)))
		}
		return err
	})
	return d, err
}

// Chunks cuts the file where it lies.
func (c *content) Chunks(ctx context.Context, sizes chunk.Sizes) (l chunk.List, err error) {
	if c.all != nil {
		return tree.Chunks(ctx, &atHand{c}, sizes)
	}
	err = c.with(ctx, func(file string) (err error) {
		l, err = c.cut(ctx, file, sizes)
		return err
	})
	return l, err
}

func (c *content) cut(ctx context.Context, file string, sizes chunk.Sizes) (l chunk.List, err error) {
	a, rest, end, err := c.tree.begin(ctx, "chunks", c.name, call{File: file, Sizes: &sizes}, nil)
	if err != nil {
		return l, err
	}
	defer end()
	if copy(l.Digest[:], a.Digest) != len(l.Digest) {
		return l, tree.PathError("chunks", c.name, c.tree.host.Distrust("a hash of %d bytes", len(a.Digest)))
	}
	l.Sizes = sizes
	// All but the last have the least length, and a file that grows is longer than it was.
	if a.Chunks > mostChunks {
		return l, tree.PathError("chunks", c.name, c.tree.host.Distrust("%d chunks", a.Chunks))
	}
	for range a.Chunks {
		k, err := readChunk(rest)
		if err != nil {
			return l, tree.PathError("chunks", c.name, fmt.Errorf("%w: %w", tree.ErrUnreachable, err))
		}
		last := len(l.Chunks) == a.Chunks-1
		if k.Length > sizes.Max || k.Length < sizes.Min && !last || k.Length == 0 || l.Size > c.entry.Size+mostGrown {
			return l, tree.PathError("chunks", c.name, c.tree.host.Distrust("a chunk of %d bytes at %d of %d", k.Length, l.Size, c.entry.Size))
		}
		l.Chunks = append(l.Chunks, k)
		l.Size += int64(k.Length)
	}
	return l, nil
}

// atHand is the content without what else it offers.
type atHand struct{ c *content }

func (a *atHand) Entry() tree.Entry                      { return a.c.entry }
func (a *atHand) ReadAt(p []byte, at int64) (int, error) { return a.c.ReadAt(p, at) }
func (a *atHand) Close() error                           { return nil }

// Chunks go as binary: four bytes of length, the highest first, and the fingerprint.

func chunksToWire(list []chunk.Chunk) []byte {
	raw := make([]byte, 0, len(list)*chunkBytes)
	for _, c := range list {
		raw = binary.BigEndian.AppendUint32(raw, uint32(c.Length))
		raw = append(raw, c.Fingerprint[:]...)
	}
	return raw
}

const chunkBytes = 4 + len(chunk.Fingerprint{})

func readChunk(r io.Reader) (c chunk.Chunk, err error) {
	var raw [chunkBytes]byte
	if _, err := io.ReadFull(r, raw[:]); err != nil {
		return c, err
	}
	return chunk.Chunk{Length: int(binary.BigEndian.Uint32(raw[:4])), Fingerprint: chunk.Fingerprint(raw[4:])}, nil
}

// closeMost is how long the mover is asked to close a file.
const closeMost = 10 * time.Second

// Close lets the mover close the file; that is not waited for.
func (c *content) Close() error {
	if c.all != nil {
		return nil
	}
	guard.Go(func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(c.ctx), closeMost)
		defer cancel()
		_, _ = c.tree.call(ctx, "close", c.name, call{File: c.known()}, nil) // else it closes it by itself
	})
	return nil
}
