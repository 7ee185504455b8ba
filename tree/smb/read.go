package smb

import (
	"context"
	"io"
	"path"
	"time"

	"bridgespan/guard"
	"bridgespan/tree"
)

// content is an open file.
type content struct {
	*remoteFile
	entry   tree.Entry
	ctx     context.Context // of Open
	release context.CancelFunc
}

func (c *content) Entry() tree.Entry { return c.entry }

// Current describes the file as it is now.
func (c *content) Current(context.Context) (tree.Entry, error) {
	info, err := describe(c.remoteFile)
	if err != nil {
		return tree.Entry{}, pathError("stat", c.entry.Name, err)
	}
	return toEntry(info, c.entry.Name), nil
}

// ReadAt follows io.ReaderAt: a short read comes with an error.
func (c *content) ReadAt(p []byte, off int64) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, tree.PathError("read", c.entry.Name, err)
	}
	n, err := c.remoteFile.ReadAt(p, off)
	if err == nil && n < len(p) {
		err = io.EOF
	}
	if err != nil && err != io.EOF {
		err = pathError("read", c.entry.Name, err)
	}
	return n, err
}

func (c *content) Close() error {
	defer c.release()
	return pathError("close", c.entry.Name, c.remoteFile.Close())
}

// closeGrace is how long after the end of its context a file may still be closed.
const closeGrace = 5 * time.Second

// linger returns a context for an open file. It outlives ctx a little, so that
// a caller who gives up can still close the file: a handle left open at the
// server would stand in the way of everybody else.
func linger(ctx context.Context) (context.Context, context.CancelFunc) {
	lasting, cancel := context.WithCancel(context.WithoutCancel(ctx))
	stop := context.AfterFunc(ctx, guard.Func(func() { time.AfterFunc(closeGrace, cancel) }))
	return lasting, func() { stop(); cancel() }
}

func (t *Tree) Open(ctx context.Context, name string) (tree.Content, error) {
	c, err := t.open(ctx, name)
	if err != nil {
		return nil, err
	}
	info, err := describe(c.remoteFile)
	if err == nil && info.IsDir() {
		err = tree.ErrKind
	}
	if err != nil {
		c.Close()
		return nil, pathError("open", name, err)
	}
	c.entry = toEntry(info, path.Base(name))
	return c, nil
}

// OpenExpected opens a file without asking the server about it.
func (t *Tree) OpenExpected(ctx context.Context, name string, expected tree.Entry) (tree.Content, error) {
	c, err := t.open(ctx, name)
	if err != nil {
		return nil, err
	}
	c.entry = expected
	return c, nil
}

func (t *Tree) open(ctx context.Context, name string) (*content, error) {
	share, wire, err := t.begin(ctx, "open", name)
	if err != nil {
		return nil, err
	}
	lasting, release := linger(ctx)
	f, err := share.WithContext(lasting).Open(wire)
	if err != nil {
		release()
		return nil, pathError("open", name, err)
	}
	return &content{remoteFile: f, ctx: ctx, release: release}, nil
}
