package tree

import (
	"context"
	"fmt"
	"io"
	"sync"
)

// Gather copies content into w and checks its length, as Put and Stage need it: it
// stops when ctx ends, and returns ErrTorn when the file is not as long then as
// options say, and ErrAltered when they say that it is read back and it holds something
// else; w must be an [io.ReaderAt] of the file for that. It returns the number of bytes written.
func Gather(ctx context.Context, w io.Writer, content io.Reader, options PutOptions) (int64, error) {
	stored, readable := w.(io.ReaderAt)
	if options.ReadBack && !readable {
		return 0, ErrUnsupported
	}
	check := &readBack{content: content, at: options.At}
	if options.ReadBack {
		content = check
	}
	n, err := gather(w, &contextReader{ctx: ctx, r: content}, options)
	if err == nil && options.ReadBack {
		err = check.compare(ctx, stored)
	}
	if size := options.At + n; err == nil && options.SizeKnown && size != options.Size && options.Whole(size) {
		err = fmt.Errorf("%w: %d of %d bytes", ErrTorn, size, options.Size)
	}
	return n, err
}

// small is how much is written at once, from a buffer that is used again.
const small = 64 << 10

var smallBuffers = sync.Pool{New: func() any { return new([small]byte) }}

func gather(w io.Writer, content io.Reader, options PutOptions) (int64, error) {
	if !options.SizeKnown || options.Size > small {
		return io.Copy(w, content)
	}
	buffer := smallBuffers.Get().(*[small]byte)
	defer smallBuffers.Put(buffer)
	// What a writer would allocate for itself costs more than the copy.
	return io.CopyBuffer(onlyWriter{w}, content, buffer[:])
}

type onlyWriter struct{ io.Writer }

// contextReader ends a copy when its context does, and fills every buffer.
type contextReader struct {
	ctx   context.Context
	r     io.Reader
	ended bool // r has said so, and is not asked again: some look at their source then
}

func (c *contextReader) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	if c.ended {
		return 0, io.EOF
	}
	// Full pieces: a sender's small ones would each cost a round trip.
	n, err := io.ReadFull(c.r, p)
	c.ended = err == io.EOF || err == io.ErrUnexpectedEOF
	if err == io.ErrUnexpectedEOF {
		err = nil
	}
	return n, err
}

// GoesOn returns ErrTorn when a file of size bytes does not reach to where its content is
// to go on.
func GoesOn(size, at int64) error {
	if size < at {
		return fmt.Errorf("%w: %d bytes are there of %d", ErrTorn, size, at)
	}
	return nil
}

// Stage writes a new file as a [Stager] does. Where a tree is none, it is put,
// which flushes it at once.
func Stage(ctx context.Context, t Tree, name string, content io.Reader, options PutOptions) (Entry, error) {
	if s, ok := t.(Stager); ok {
		return s.Stage(ctx, name, content, options)
	}
	if options.At > 0 || options.Part {
		return Entry{}, PathError("stage", name, ErrUnsupported)
	}
	meta := options.Meta
	options.Meta = Meta{}
	check := &readBack{content: content}
	if _, err := t.Put(ctx, name, check, options); err != nil {
		return Entry{}, err
	}
	var err error
	if options.ReadBack {
		err = check.reopen(ctx, t, name)
	}
	if err == nil {
		err = t.Apply(ctx, name, meta)
	}
	var entry Entry
	if err == nil {
		entry, err = t.Stat(ctx, name)
	}
	if err == nil && options.Detail == WithDescriptors {
		entry.Descriptor, err = t.Descriptor(ctx, name)
	}
	if err != nil {
		_ = t.Remove(context.WithoutCancel(ctx), name)
	}
	return entry, err
}

// Flush makes lasting what was staged.
func Flush(ctx context.Context, t Tree) error {
	if s, ok := t.(Stager); ok {
		return s.Flush(ctx)
	}
	return nil
}
