package memory

import (
	"bytes"
	"context"

	"bridgespan/tree"
)

// content is an open file.
type content struct {
	tree  *Tree
	name  string
	data  []byte
	entry tree.Entry
}

func (c *content) Entry() tree.Entry { return c.entry }
func (c *content) Close() error      { return nil }

func (c *content) ReadAt(p []byte, off int64) (int, error) {
	if err := c.tree.fault("read", c.name); err != nil {
		return 0, err
	}
	if c.entry.Residency == tree.Stub {
		data, err := c.tree.fetched(context.Background(), c.name)
		if err != nil {
			return 0, err
		}
		return bytes.NewReader(data).ReadAt(p, off)
	}
	return bytes.NewReader(c.data).ReadAt(p, off)
}

func (t *Tree) Open(ctx context.Context, name string) (tree.Content, error) {
	if err := t.begin(ctx, "open", name); err != nil {
		return nil, err
	}
	defer t.mu.Unlock()
	n, err := t.find("open", name)
	if err != nil {
		return nil, err
	}
	if n.kind != tree.File {
		return nil, tree.PathError("open", name, tree.ErrKind)
	}
	// Content is replaced whole and never changed in place, so a reader keeps what it opened.
	return &content{t, name, n.content, t.entry(n, tree.Plain)}, nil
}

// OpenExpected opens a file and takes it for what it should be.
func (t *Tree) OpenExpected(ctx context.Context, name string, expected tree.Entry) (tree.Content, error) {
	c, err := t.Open(ctx, name)
	if err == nil {
		expected.Residency = c.Entry().Residency
		c.(*content).entry = expected
	}
	return c, err
}
