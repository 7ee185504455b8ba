package tree

import (
	"context"
	"io"

	"bridgespan/core/chunk"
)

// Parts reads a file that is made of parts of another one and of content, in order.
func Parts(ctx context.Context, base, content io.ReaderAt, parts []chunk.Part) io.Reader {
	return &partReader{ctx: ctx, base: base, content: content, parts: parts}
}

type partReader struct {
	ctx           context.Context
	base, content io.ReaderAt
	parts         []chunk.Part
	now           *io.SectionReader // of the first of parts
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
			p.now = io.NewSectionReader(p.content, part.At, part.Length)
			if part.From >= 0 {
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
