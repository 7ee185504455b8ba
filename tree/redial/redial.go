// Package redial is a tree over a connection that is made when it is first
// needed, and made anew after it broke. What was under way when it broke fails;
// what comes after finds the new connection.
package redial

import (
	"context"
	"errors"
	"sync"
	"time"

	"bridgespan/guard"
	"bridgespan/tree"
)

// Tree is a tree that connects by itself. It must be made by New.
type Tree struct {
	tree.Forwarder
	dial func(context.Context) (tree.Tree, error)
	turn chan struct{} // holds one while somebody dials

	mu           sync.Mutex
	capabilities tree.Capabilities
	current      tree.Tree
	failed       error     // why the last attempt failed
	again        time.Time // when it may be tried again
}

// pause is how long a place that could not be reached is left alone.
const pause = 2 * time.Second

// New makes a tree over what dial connects to. capabilities are told until it
// has connected.
func New(capabilities tree.Capabilities, dial func(context.Context) (tree.Tree, error)) *Tree {
	t := &Tree{dial: dial, capabilities: capabilities, turn: make(chan struct{}, 1)}
	t.Use = func(ctx context.Context, _ bool, do func(tree.Tree) error) error {
		c, err := t.connected(ctx)
		if err != nil {
			return err
		}
		err = do(c)
		t.met(c, err)
		return err
	}
	t.Opened = func(content tree.Content, c tree.Tree, name string) tree.Content {
		return &open{content, t, c, name}
	}
	return t
}

// connected is what t is connected to. One caller at a time dials; others wait for that
// as long as they like.
func (t *Tree) connected(ctx context.Context) (tree.Tree, error) {
	if c, err := t.known(); c != nil || err != nil {
		return c, err
	}
	select {
	case t.turn <- struct{}{}:
		defer func() { <-t.turn }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	if c, err := t.known(); c != nil || err != nil { // somebody has dialled meanwhile
		return c, err
	}
	c, err := t.dial(ctx)
	t.mu.Lock()
	defer t.mu.Unlock()
	if err != nil {
		// That a caller gave up tells nothing about the place.
		if ctx.Err() == nil {
			t.failed, t.again = err, time.Now().Add(pause)
		}
		return nil, err
	}
	t.current, t.failed, t.capabilities = c, nil, c.Capabilities()
	return c, nil
}

// known is the connection that there is, or why there can be none now; neither when it
// has to be made.
func (t *Tree) known() (tree.Tree, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.current == nil && t.failed != nil && time.Now().Before(t.again) {
		return nil, t.failed
	}
	return t.current, nil
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
