package tree

import (
	"context"
	"io"

	"bridgespan/core/chunk"
)

// Parts reads a file that is made of parts of another one, and of what these lack,
// in order. The caller must close it; that closes neither base nor content.
func Parts(ctx context.Context, base, content io.ReaderAt, parts []chunk.Part) io.ReadCloser {
	return &partReader{ctx: ctx, base: base, ReadCloser: StreamLacking(ctx, content, parts), parts: parts}
}

type partReader struct {
	ctx           context.Context
	base          io.ReaderAt
	io.ReadCloser // of what the parts lack
	parts         []chunk.Part
	now           io.Reader // of the first of parts
}

func (p *partReader) Read(buffer []byte) (int, error) {
	for {
		if err := p.ctx.Err(); err != nil {
			return 0, err
		}
		if p.now == nil {
			if len(p.parts) == 0 {
				return 0, io.EOF
			}
			part := p.parts[0]
			if p.now = io.LimitReader(p.ReadCloser, part.Length); part.From >= 0 {
				p.now = io.NewSectionReader(p.base, part.From, part.Length)
			}
		}
		n, err := p.now.Read(buffer)
		if err == io.EOF {
			// A part that is shorter than it should be makes the file shorter,
			// which who writes it finds out.
			p.now, p.parts, err = nil, p.parts[1:], nil
		}
		if n > 0 || err != nil {
			return n, err
		}
	}
}
