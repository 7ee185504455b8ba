package transfer

import (
	"context"
	"errors"
	"io"
	"sync"

	"github.com/zeebo/blake3"

	"bridgespan/core/chunk"
	"bridgespan/tree"
)

// Digest reads a file and hashes what through makes of its content, where it is read here; a
// nil through changes nothing. The entry is the file as it was opened. It returns tree.ErrChanged
// when the file is another one afterwards. A stub stays one: its mark tells the hash, or Digest returns
// [tree.ErrStub].
func Digest(ctx context.Context, t tree.Tree, name string, through func(io.Reader) io.Reader) (chunk.Digest, tree.Entry, error) {
	content, err := tree.Resident(t).Open(ctx, name)
	if errors.Is(err, tree.ErrStub) {
		return markedDigest(ctx, t, name)
	}
	if err != nil {
		return chunk.Digest{}, tree.Entry{}, err
	}
	defer content.Close()
	d, err := tree.Sum(ctx, content, tree.BLAKE3, through)
	if err == nil {
		err = still(ctx, t, name, content)
	}
	if err != nil {
		return chunk.Digest{}, tree.Entry{}, err
	}
	return d, content.Entry(), nil
}

// still returns tree.ErrChanged when an open file is no longer as it was opened.
func still(ctx context.Context, t tree.Tree, name string, content tree.Content) error {
	ok, err := tree.Unchanged(ctx, t, name, content)
	if err == nil && !ok {
		err = tree.ErrChanged
	}
	return err
}

// hashes are used again: each is as large as a small file.
var hashes = sync.Pool{New: func() any { return blake3.New() }}

func newHash() *blake3.Hasher {
	h := hashes.Get().(*blake3.Hasher)
	h.Reset()
	return h
}

func sum(h *blake3.Hasher) (d chunk.Digest) {
	h.Sum(d[:0])
	return d
}

// checked passes content on and hashes it. At its end it calls check, and ends with the error
// that it returns.
type checked struct {
	r     io.Reader
	hash  *blake3.Hasher
	check func(chunk.Digest) error
}

func (c *checked) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.hash.Write(p[:n])
	if err == io.EOF {
		if bad := c.check(sum(c.hash)); bad != nil {
			return 0, bad
		}
	}
	return n, err
}
