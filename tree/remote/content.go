package remote

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"time"

	"bridgespan/core/chunk"
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
	file  string // as the mover knows it; "" when all is at hand
	all   []byte
}

func (t *Tree) Open(ctx context.Context, name string) (tree.Content, error) {
	a, rest, end, err := t.begin(ctx, "open", name, call{Length: inline}, nil)
	if err != nil {
		return nil, err
	}
	defer end()
	c := &content{tree: t, ctx: ctx, name: name, entry: fromWire(a.Entry), file: a.File}
	if a.File != "" {
		return c, nil
	}
	c.all = make([]byte, c.entry.Size)
	if _, err := io.ReadFull(rest, c.all); err != nil {
		return nil, tree.PathError("open", name, fmt.Errorf("%w: %w", tree.ErrUnreachable, err))
	}
	return c, nil
}

func (c *content) Entry() tree.Entry { return c.entry }

// Current describes the file as it is now. One that is at hand was read as it was
// at one moment; what becomes of it later is another matter.
func (c *content) Current(ctx context.Context) (tree.Entry, error) {
	if c.file == "" {
		return c.entry, nil
	}
	return c.tree.described(ctx, "current", c.name, call{File: c.file}, nil)
}

func (c *content) ReadAt(p []byte, at int64) (n int, err error) {
	if c.file == "" {
		if at >= int64(len(c.all)) {
			return 0, io.EOF
		}
		if n = copy(p, c.all[at:]); n < len(p) {
			err = io.EOF
		}
		return n, err
	}
	for n < len(p) && err == nil {
		var more int
		more, err = c.read(p[n:min(len(p), n+mostRead)], at+int64(n))
		n += more
	}
	return n, err
}

// read reads with one request.
func (c *content) read(p []byte, at int64) (int, error) {
	if at >= c.entry.Size { // as far as it reached when it was opened
		return 0, io.EOF
	}
	body, end, err := c.tree.host.send(c.ctx, c.tree.folder, "read", call{Sub: c.tree.sub, Name: c.name, File: c.file, At: at, Length: len(p)}, nil)
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
	if c.file == "" {
		return tree.Sum(ctx, &atHand{c}, by, nil)
	}
	a, err := c.tree.call(ctx, "sum", c.name, call{File: c.file, Hash: by}, nil)
	copy(d[:], a.Digest)
	return d, err
}

// Chunks cuts the file where it lies.
func (c *content) Chunks(ctx context.Context, sizes chunk.Sizes) (l chunk.List, err error) {
	if c.file == "" {
		return tree.Chunks(ctx, &atHand{c}, sizes)
	}
	a, rest, end, err := c.tree.begin(ctx, "chunks", c.name, call{File: c.file, Sizes: &sizes}, nil)
	if err != nil {
		return l, err
	}
	defer end()
	copy(l.Digest[:], a.Digest)
	if l.Chunks, err = readChunks(rest, a.Chunks); err != nil {
		return l, tree.PathError("chunks", c.name, fmt.Errorf("%w: %w", tree.ErrUnreachable, err))
	}
	for _, k := range l.Chunks {
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

func readChunks(r io.Reader, n int) (list []chunk.Chunk, err error) {
	for range n {
		var raw [chunkBytes]byte
		if _, err := io.ReadFull(r, raw[:]); err != nil {
			return nil, err
		}
		list = append(list, chunk.Chunk{Length: int(binary.BigEndian.Uint32(raw[:4])), Fingerprint: chunk.Fingerprint(raw[4:])})
	}
	return list, nil
}

// closeMost is how long the mover is asked to close a file.
const closeMost = 10 * time.Second

// Close lets the mover close the file; that is not waited for.
func (c *content) Close() error {
	if c.file == "" {
		return nil
	}
	go func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(c.ctx), closeMost)
		defer cancel()
		_, _ = c.tree.call(ctx, "close", c.name, call{File: c.file}, nil) // else it closes it by itself
	}()
	return nil
}
