// Package redial is a tree over a connection that is made when it is first
// needed, and made anew after it broke. What was under way when it broke fails;
// what comes after finds the new connection.
package redial

import (
	"context"
	"errors"
	"io"
	"iter"
	"sync"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/chunk"
	"bridgespan/guard"
	"bridgespan/tree"
)

// Tree is a tree that connects by itself. It must be made by New.
type Tree struct {
	dial         func(context.Context) (tree.Tree, error)
	capabilities tree.Capabilities

	mu      sync.Mutex
	current tree.Tree
	failed  error     // why the last attempt failed
	again   time.Time // when it may be tried again
}

// pause is how long nobody dials again after an attempt failed: everybody who
// waits for the same server would.
const pause = 2 * time.Second

// New makes a tree that connects with dial. capabilities are told until it is
// connected.
func New(capabilities tree.Capabilities, dial func(context.Context) (tree.Tree, error)) *Tree {
	return &Tree{dial: dial, capabilities: capabilities}
}

// connected returns the connection, made if need be.
func (t *Tree) connected(ctx context.Context) (tree.Tree, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.current != nil {
		return t.current, nil
	}
	if t.failed != nil && time.Now().Before(t.again) {
		return nil, t.failed
	}
	c, err := t.dial(ctx)
	if err != nil {
		if ctx.Err() == nil {
			t.failed, t.again = err, time.Now().Add(pause)
		}
		return nil, err
	}
	t.current, t.failed, t.capabilities = c, nil, c.Capabilities()
	return c, nil
}

// met gives up a connection that broke.
func (t *Tree) met(c tree.Tree, err error) {
	if !errors.Is(err, tree.ErrUnreachable) {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.current == c {
		t.current = nil
		guard.Go(func() { c.Close() }) // it may wait for an answer that never comes
	}
}

// with does something over the connection.
func (t *Tree) with(ctx context.Context, do func(c tree.Tree) error) error {
	c, err := t.connected(ctx)
	if err != nil {
		return err
	}
	err = do(c)
	t.met(c, err)
	return err
}

// Connect connects, if that is not so already.
func (t *Tree) Connect(ctx context.Context) error {
	_, err := t.connected(ctx)
	return err
}

func (t *Tree) Capabilities() tree.Capabilities {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.capabilities
}

func (t *Tree) Stat(ctx context.Context, name string) (e tree.Entry, err error) {
	err = t.with(ctx, func(c tree.Tree) error { e, err = c.Stat(ctx, name); return err })
	return e, err
}

func (t *Tree) List(ctx context.Context, name string, detail tree.Detail) iter.Seq2[tree.Entry, error] {
	return func(yield func(tree.Entry, error) bool) {
		c, err := t.connected(ctx)
		if err != nil {
			yield(tree.Entry{}, err)
			return
		}
		for e, err := range c.List(ctx, name, detail) {
			t.met(c, err)
			if !yield(e, err) {
				return
			}
		}
	}
}

func (t *Tree) Open(ctx context.Context, name string) (tree.Content, error) {
	return t.open(ctx, name, func(c tree.Tree) (tree.Content, error) { return c.Open(ctx, name) })
}

// OpenExpected opens a file whose Entry is known, where the connection's tree can.
func (t *Tree) OpenExpected(ctx context.Context, name string, expected tree.Entry) (tree.Content, error) {
	return t.open(ctx, name, func(c tree.Tree) (tree.Content, error) { return tree.OpenExpected(ctx, c, name, expected) })
}

func (t *Tree) open(ctx context.Context, name string, with func(tree.Tree) (tree.Content, error)) (content tree.Content, err error) {
	err = t.with(ctx, func(c tree.Tree) error {
		if content, err = with(c); err == nil {
			content = &open{content, t, c, name}
		}
		return err
	})
	return content, err
}

// open is an open file: that its connection broke may show while it is read.
type open struct {
	tree.Content
	tree       *Tree
	connection tree.Tree
	name       string
}

func (o *open) ReadAt(p []byte, off int64) (int, error) {
	n, err := o.Content.ReadAt(p, off)
	if err != nil {
		o.tree.met(o.connection, err)
	}
	return n, err
}

// Unwrap is the open file of the connection.
func (o *open) Unwrap() tree.Content { return o.Content }

// Current describes the file as it is now, where the connection's tree can.
func (o *open) Current(ctx context.Context) (tree.Entry, error) {
	c, ok := o.Content.(tree.Current)
	if !ok {
		return o.connection.Stat(ctx, o.name)
	}
	e, err := c.Current(ctx)
	o.tree.met(o.connection, err)
	return e, err
}

func (t *Tree) Put(ctx context.Context, name string, content io.Reader, options tree.PutOptions) (e tree.Entry, err error) {
	err = t.with(ctx, func(c tree.Tree) error { e, err = c.Put(ctx, name, content, options); return err })
	return e, err
}

func (t *Tree) Mkdir(ctx context.Context, name string) error {
	return t.with(ctx, func(c tree.Tree) error { return c.Mkdir(ctx, name) })
}

func (t *Tree) Rename(ctx context.Context, from, to string, replace bool) error {
	return t.with(ctx, func(c tree.Tree) error { return c.Rename(ctx, from, to, replace) })
}

// Exchange lets two files change places, where the connection's tree can.
func (t *Tree) Exchange(ctx context.Context, a, b string) error {
	return t.with(ctx, func(c tree.Tree) error {
		if x, ok := c.(tree.Exchanger); ok {
			return x.Exchange(ctx, a, b)
		}
		return tree.PathError("exchange", a, tree.ErrUnsupported)
	})
}

// Protect keeps everybody else out of a folder, where the connection's tree can.
func (t *Tree) Protect(ctx context.Context, folder string) error {
	return t.with(ctx, func(c tree.Tree) error { return tree.Protect(ctx, c, folder) })
}

// Stage writes a new file. Over a tree that cannot, it is put, and flushed at once.
func (t *Tree) Stage(ctx context.Context, name string, content io.Reader, options tree.PutOptions) (e tree.Entry, err error) {
	err = t.with(ctx, func(c tree.Tree) error { e, err = tree.Stage(ctx, c, name, content, options); return err })
	return e, err
}

// Assemble makes a file of parts of another one, where the connection's tree can.
func (t *Tree) Assemble(ctx context.Context, name, base string, parts []chunk.Part, content io.ReaderAt, options tree.PutOptions) (e tree.Entry, err error) {
	err = t.with(ctx, func(c tree.Tree) error {
		a, ok := c.(tree.Assembler)
		if !ok {
			return tree.PathError("assemble", name, tree.ErrUnsupported)
		}
		e, err = a.Assemble(ctx, name, base, parts, content, options)
		return err
	})
	return e, err
}

func (t *Tree) Flush(ctx context.Context) error {
	return t.with(ctx, func(c tree.Tree) error { return tree.Flush(ctx, c) })
}

func (t *Tree) Remove(ctx context.Context, name string) error {
	return t.with(ctx, func(c tree.Tree) error { return c.Remove(ctx, name) })
}

func (t *Tree) Descriptor(ctx context.Context, name string) (d acl.Descriptor, err error) {
	err = t.with(ctx, func(c tree.Tree) error { d, err = c.Descriptor(ctx, name); return err })
	return d, err
}

func (t *Tree) Apply(ctx context.Context, name string, meta tree.Meta) error {
	return t.with(ctx, func(c tree.Tree) error { return c.Apply(ctx, name, meta) })
}

func (t *Tree) Space(ctx context.Context) (s tree.Space, err error) {
	err = t.with(ctx, func(c tree.Tree) error { s, err = c.Space(ctx); return err })
	return s, err
}

// Watch tells of changes, where the connection's tree can. It ends when the
// connection breaks.
func (t *Tree) Watch(ctx context.Context) iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		c, err := t.connected(ctx)
		if err != nil {
			yield(".", err)
			return
		}
		for folder, err := range tree.Watch(ctx, c) {
			t.met(c, err)
			if !yield(folder, err) {
				return
			}
		}
	}
}

// Close ends the connection.
func (t *Tree) Close() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.current == nil {
		return nil
	}
	c := t.current
	t.current = nil
	return c.Close()
}
