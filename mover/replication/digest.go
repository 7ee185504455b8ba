package replication

import (
	"context"
	"io"

	"github.com/zeebo/blake3"

	"bridgespan/core/replica"
	"bridgespan/tree"
)

// digest reads a file and hashes it. The entry is the file as it was opened; it
// returns errMoved when it is another one afterwards.
func digest(ctx context.Context, t tree.Tree, name string) (replica.Digest, tree.Entry, error) {
	content, err := t.Open(ctx, name)
	if err != nil {
		return replica.Digest{}, tree.Entry{}, err
	}
	defer content.Close()
	stream := tree.Stream(ctx, content, 0)
	defer stream.Close()
	hash := blake3.New()
	n, err := io.Copy(hash, stream)
	if err != nil {
		return replica.Digest{}, tree.Entry{}, err
	}
	opened := content.Entry()
	after, err := t.Stat(ctx, name)
	if err != nil {
		return replica.Digest{}, tree.Entry{}, err
	}
	if n != opened.Size || after.Size != opened.Size || !after.Modified.Equal(opened.Modified) {
		return replica.Digest{}, tree.Entry{}, errMoved
	}
	if opened.ID == 0 {
		opened.ID = after.ID
	}
	return sum(hash), opened, nil
}

func sum(h *blake3.Hasher) (d replica.Digest) {
	h.Sum(d[:0])
	return d
}

// checked passes content on, and ends it with errMoved when it is not what it should be.
type checked struct {
	r    io.Reader
	hash *blake3.Hasher
	want replica.Digest
}

func newChecked(r io.Reader, want replica.Digest) *checked {
	return &checked{r, blake3.New(), want}
}

func (c *checked) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.hash.Write(p[:n])
	if err == io.EOF && sum(c.hash) != c.want {
		return 0, errMoved
	}
	return n, err
}
