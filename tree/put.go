package tree

import (
	"context"
	"fmt"
	"io"
)

// Gather copies content into w and checks its length, as Put needs it: it
// stops when ctx ends, and returns ErrTorn when content is not as long as
// options say. It returns the number of bytes written.
func Gather(ctx context.Context, w io.Writer, content io.Reader, options PutOptions) (int64, error) {
	n, err := io.Copy(w, &contextReader{ctx, content})
	if err == nil && options.SizeKnown && n != options.Size {
		err = fmt.Errorf("%w: %d of %d bytes", ErrTorn, n, options.Size)
	}
	return n, err
}

// contextReader ends a copy when its context does, and fills every buffer.
type contextReader struct {
	ctx context.Context
	r   io.Reader
}

func (c *contextReader) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	// Full pieces: a sender's small ones would each cost a round trip.
	n, err := io.ReadFull(c.r, p)
	if err == io.ErrUnexpectedEOF {
		err = nil
	}
	return n, err
}
