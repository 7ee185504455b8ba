package bucket

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync"

	"github.com/minio/minio-go/v7"

	"bridgespan/tree"
)

// content is an open file. Short sequential reads share one response of the service; other ranges are requested one by one. All
// come from the version that was opened. No more is requested than will be read, where that is known: the provider charges for
// every byte that it sends.
type content struct {
	tree  *Tree
	ctx   context.Context // of Open
	name  string
	entry tree.Entry
	size  int64 // of the object

	mu    sync.Mutex
	body  io.ReadCloser // the content from at to to; may be nil
	at    int64
	to    int64
	ended int64 // end of the last range that was requested alone
	until int64 // end of what will be read, as far as is known
}

// alone is the length from which a read has its own request: such reads run side by side when a file is copied.
const alone = 1 << 20

// Open opens a file. One request returns its metadata and the beginning of its content, one more is made for an empty one.
func (t *Tree) Open(ctx context.Context, name string) (tree.Content, error) {
	key, err := t.begin(ctx, "open", name)
	if err != nil {
		return nil, err
	}
	if name == "." {
		return nil, tree.PathError("open", name, tree.ErrKind)
	}
	body, o, err := t.beginning(ctx, key)
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
	return t.newContent(ctx, name, t.entry(name, o), body), nil
}

// beginning requests the first bytes of an object.
func (t *Tree) beginning(ctx context.Context, key string) (io.ReadCloser, minio.ObjectInfo, error) {
	var o minio.GetObjectOptions
	if err := o.SetRange(0, alone-1); err != nil {
		return nil, minio.ObjectInfo{}, err
	}
	body, info, header, err := t.core.GetObject(ofContent(ctx), t.target.Bucket, key, o)
	if minio.ToErrorResponse(err).StatusCode == http.StatusRequestedRangeNotSatisfiable { // it is empty
		body, info, header, err = t.core.GetObject(ofContent(ctx), t.target.Bucket, key, minio.GetObjectOptions{})
	}
	if err != nil {
		return nil, info, err
	}
	if of, ok := strings.CutPrefix(header.Get("Content-Range"), "bytes "); ok { // RFC 9110, section 14.4
		_, total, _ := strings.Cut(of, "/")
		if info.Size, err = strconv.ParseInt(total, 10, 64); err != nil {
			body.Close()
			return nil, info, fmt.Errorf("%w: the range %.80q", tree.ErrUntrusted, of)
		}
	}
	return body, info, nil
}

// OpenVersion opens one version of a file for ranged reads, without a request: the first range is
// requested when it is read, which fails with tree.ErrVersion or fs.ErrNotExist when another version is there by then, or none.
func (t *Tree) OpenVersion(ctx context.Context, name string, entry tree.Entry) tree.Content {
	return t.newContent(ctx, name, entry, nil)
}

// Until tells that nobody will read from an offset on, until another one is told.
func (c *content) Until(offset int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.until = min(offset, c.size)
}

func (c *content) Entry() tree.Entry { return c.entry }

// skipMost is the largest gap that a sequential read skips instead of making a request.
const skipMost = 256 << 10

// ReadAt follows io.ReaderAt.
func (c *content) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 {
		return 0, tree.PathError("read", c.name, errors.New("a negative offset"))
	}
	if off >= c.size {
		return 0, io.EOF
	}
	want := p[:min(int64(len(p)), c.size-off)]
	n := 0
	var err error
	for n < len(want) && err == nil {
		k, inOrder, bad := c.readOn(want[n:], off+int64(n))
		if !inOrder {
			k, bad = c.readRange(want[n:], off+int64(n))
		}
		n, err = n+k, bad
	}
	if err == nil && len(want) < len(p) {
		err = io.EOF
	}
	if err != nil && err != io.EOF {
		err = pathError("read", c.name, err)
	}
	return n, err
}

// readOn reads from the current answer, to its end at most. It returns false when off is not ahead in it, or another goroutine
// reads it.
func (c *content) readOn(p []byte, off int64) (n int, inOrder bool, err error) {
	if !c.mu.TryLock() {
		return 0, false, nil
	}
	defer c.mu.Unlock()
	if c.body == nil && off == c.ended && len(p) < alone {
		to := max(c.until, off+int64(len(p)))
		if c.body, err = c.get(off, to-1); err != nil {
			return 0, true, err
		}
		c.at, c.to = off, to
	}
	if c.body == nil || off < c.at || off-c.at > skipMost || off >= c.to {
		return 0, false, nil
	}
	if _, err = io.CopyN(io.Discard, c.body, off-c.at); err == nil {
		n, err = io.ReadFull(c.body, p[:min(int64(len(p)), c.to-off)])
	}
	c.at = off + int64(n)
	if err != nil || c.at == c.to {
		c.body.Close()
		c.body, c.ended = nil, c.at
	}
	if err == io.ErrUnexpectedEOF || err == io.EOF {
		err = fmt.Errorf("%w: %d of %d bytes", tree.ErrTorn, c.at, c.size)
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
	body, _, _, err := c.tree.core.GetObject(ofContent(c.ctx), c.tree.target.Bucket, c.tree.key(c.name), o)
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
