package bucket

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"

	"github.com/minio/minio-go/v7"

	"bridgespan/tree"
)

// content is an open file. Sequential reads share one answer of the service; other ranges are requested one by
// one. All come from the version that was opened.
type content struct {
	tree  *Tree
	ctx   context.Context // of Open
	name  string
	entry tree.Entry

	mu    sync.Mutex
	body  io.ReadCloser // the content from at on; may be nil
	at    int64
	ended int64 // end of the last range that was requested alone
}

// Open opens a file. One request returns its metadata and the beginning of its content.
func (t *Tree) Open(ctx context.Context, name string) (tree.Content, error) {
	key, err := t.begin(ctx, "open", name)
	if err != nil {
		return nil, err
	}
	if name == "." {
		return nil, tree.PathError("open", name, tree.ErrKind)
	}
	body, o, _, err := t.core.GetObject(ofContent(ctx), t.target.Bucket, key, minio.GetObjectOptions{})
	if absent(err) {
		if is, folderErr := t.isFolder(ctx, name); folderErr != nil {
			err = folderErr
		} else if is {
			err = tree.ErrKind
		}
	}
	if err != nil {
		return nil, pathError("open", name, err)
	}
	return &content{tree: t, ctx: ctx, name: name, entry: t.entry(name, o), body: body, ended: -1}, nil
}

// OpenVersion opens one version of a file for ranged reads, without a request: the first range is
// requested when it is read, which fails with tree.ErrVersion or fs.ErrNotExist when another version is there by then, or none.
func (t *Tree) OpenVersion(ctx context.Context, name string, entry tree.Entry) tree.Content {
	return &content{tree: t, ctx: ctx, name: name, entry: entry, ended: -1}
}

func (c *content) Entry() tree.Entry { return c.entry }

// skipMost is the largest gap that a sequential read skips instead of making a request.
const skipMost = 256 << 10

// ReadAt follows io.ReaderAt.
func (c *content) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 {
		return 0, tree.PathError("read", c.name, errors.New("a negative offset"))
	}
	if off >= c.entry.Size {
		return 0, io.EOF
	}
	want := p[:min(int64(len(p)), c.entry.Size-off)]
	n, inOrder, err := c.readOn(want, off)
	if !inOrder {
		n, err = c.readRange(want, off)
	}
	if err == nil && len(want) < len(p) {
		err = io.EOF
	}
	if err != nil && err != io.EOF {
		err = pathError("read", c.name, err)
	}
	return n, err
}

// readOn reads from the current answer. It returns false when off is not ahead in it, or another goroutine reads it.
func (c *content) readOn(p []byte, off int64) (n int, inOrder bool, err error) {
	if !c.mu.TryLock() {
		return 0, false, nil
	}
	defer c.mu.Unlock()
	if c.body == nil && off == c.ended {
		if c.body, err = c.get(off, c.entry.Size-1); err != nil {
			return 0, true, err
		}
		c.at = off
	}
	if c.body == nil || off < c.at || off-c.at > skipMost {
		return 0, false, nil
	}
	if _, err = io.CopyN(io.Discard, c.body, off-c.at); err == nil {
		n, err = io.ReadFull(c.body, p)
	}
	c.at = off + int64(n)
	if err != nil || c.at == c.entry.Size {
		c.body.Close()
		c.body = nil
	}
	if err == io.ErrUnexpectedEOF || err == io.EOF {
		err = fmt.Errorf("%w: %d of %d bytes", tree.ErrTorn, c.at, c.entry.Size)
	}
	return n, true, err
}

// readRange requests a range.
func (c *content) readRange(p []byte, off int64) (int, error) {
	body, err := c.get(off, off+int64(len(p))-1)
	if err != nil {
		return 0, err
	}
	defer body.Close()
	n, err := io.ReadFull(body, p)
	if err != nil {
		return n, fmt.Errorf("%w: %w", tree.ErrTorn, err)
	}
	if c.mu.TryLock() {
		c.ended = off + int64(n)
		c.mu.Unlock()
	}
	return n, nil
}

// get requests bytes of the version that was opened.
func (c *content) get(first, last int64) (io.ReadCloser, error) {
	var o minio.GetObjectOptions
	if err := errors.Join(o.SetRange(first, last), o.SetMatchETag(c.entry.Version)); err != nil {
		return nil, err
	}
	body, _, _, err := c.tree.core.GetObject(ofContent(c.ctx), c.tree.target.Bucket, c.tree.top+c.name, o)
	return body, err
}

func (c *content) Close() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.body != nil {
		c.body.Close()
		c.body = nil
	}
	return nil
}
