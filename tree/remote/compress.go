package remote

import (
	"bufio"
	"bytes"
	"cmp"
	"io"
	"sync"

	"github.com/klauspost/compress/zstd"

	"bridgespan/guard"
)

// How bodies are compressed: fast, and within little memory.
const (
	encoding     = "zstd"
	windowBytes  = 1 << 20
	leastToTry   = 512      // bytes; fewer are sent as they are
	sampleBytes  = 64 << 10 // of which is told whether it pays
	worthPercent = 90       // what is left must be less
)

var encoders = sync.Pool{New: func() any {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(windowBytes), zstd.WithEncoderCRC(true))
	if err != nil {
		panic(err) // the options above are fixed
	}
	return e
}}

var decoders = sync.Pool{New: func() any {
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true), zstd.WithDecoderMaxWindow(8<<20))
	if err != nil {
		panic(err)
	}
	return d
}}

// shorter compresses what is at hand, and returns false when that does not pay.
func shorter(data []byte) ([]byte, bool) {
	if len(data) < leastToTry {
		return nil, false
	}
	e := encoders.Get().(*zstd.Encoder)
	defer encoders.Put(e)
	packed := e.EncodeAll(data, make([]byte, 0, len(data)))
	return packed, len(packed)*100 < len(data)*worthPercent
}

// packer compresses what is written to it.
type packer struct {
	encoder *zstd.Encoder
	to      io.Writer
}

func newPacker(w io.Writer) *packer {
	e := encoders.Get().(*zstd.Encoder)
	e.Reset(w)
	return &packer{e, w}
}

func (p *packer) Write(data []byte) (int, error) { return p.encoder.Write(data) }

// Flush sends what was written so far on its way.
func (p *packer) Flush() error { return p.encoder.Flush() }

func (p *packer) Close() error {
	err := p.encoder.Close()
	p.encoder.Reset(nil)
	encoders.Put(p.encoder)
	return err
}

// unpack reads a compressed stream; the caller must call end.
func unpack(r io.Reader) (content io.Reader, end func(), err error) {
	d := decoders.Get().(*zstd.Decoder)
	if err := d.Reset(r); err != nil {
		return nil, nil, err
	}
	return d, func() {
		_ = d.Reset(nil)
		decoders.Put(d)
	}, nil
}

var samples = sync.Pool{New: func() any { return new([sampleBytes]byte) }}

// readers are used again: most answers are shorter than their buffers.
var readers = sync.Pool{New: func() any { return bufio.NewReaderSize(nil, 32<<10) }}

func newReader(r io.Reader) *bufio.Reader {
	b := readers.Get().(*bufio.Reader)
	b.Reset(r)
	return b
}

func dropReader(b *bufio.Reader) {
	b.Reset(nil)
	readers.Put(b)
}

// packed makes a stream that is compressed if the beginning of content says that
// this pays. line goes first. The caller must call end before content is
// anybody else's again.
func packed(line []byte, content io.Reader) (body io.Reader, is bool, end func()) {
	if content == nil {
		if short, ok := shorter(line); ok {
			return bytes.NewReader(short), true, func() {}
		}
		return bytes.NewReader(line), false, func() {}
	}
	sample := samples.Get().(*[sampleBytes]byte)
	n, err := io.ReadFull(content, sample[:])
	first := append(line, sample[:n]...)
	samples.Put(sample)
	short, pays := shorter(first)
	switch {
	case err == io.EOF || err == io.ErrUnexpectedEOF: // that was all
		if pays {
			return bytes.NewReader(short), true, func() {}
		}
		return bytes.NewReader(first), false, func() {}
	case err != nil: // somebody has closed it
		return io.MultiReader(bytes.NewReader(first), &failing{err}), false, func() {}
	case !pays:
		return io.MultiReader(bytes.NewReader(first), content), false, func() {}
	}
	out, in := io.Pipe()
	ended := make(chan struct{})
	guard.Go(func() {
		defer close(ended)
		in.CloseWithError(guard.Call(func() error {
			p := newPacker(in)
			_, err := p.Write(first)
			if err == nil {
				_, err = io.Copy(p, content)
			}
			return cmp.Or(err, p.Close())
		}))
	})
	return out, true, func() {
		out.Close()
		<-ended
	}
}

// failing is a reader that fails.
type failing struct{ err error }

func (f *failing) Read([]byte) (int, error) { return 0, f.err }
