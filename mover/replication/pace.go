package replication

import (
	"context"
	"io"
)

// paced passes content on as fast as the lane may carry.
func (c *carry) paced(ctx context.Context, content io.Reader) io.Reader {
	if c.Pace == nil {
		return content
	}
	return &pacedReader{ctx, c, content}
}

type pacedReader struct {
	ctx     context.Context
	carry   *carry
	content io.Reader
}

func (p *pacedReader) Read(buffer []byte) (int, error) {
	n, err := p.content.Read(buffer)
	if n > 0 {
		if bad := p.carry.Pace(p.ctx, p.carry.lane, n); bad != nil {
			return n, bad
		}
	}
	return n, err
}
