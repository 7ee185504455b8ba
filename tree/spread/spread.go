// Package spread is a tree over several connections to one place: each call goes
// over the one on which least is under way. A server that works off what comes
// over one connection one after the other, as SMB servers do, does several things
// at a time then.
package spread

import (
	"context"
	"errors"
	"iter"
	"sync/atomic"

	"bridgespan/tree"
)

// Tree is a tree over several connections. It must be made by Over.
type Tree struct {
	tree.Forwarder
	ways []*way
	turn atomic.Uint64
}

// way is one of the connections, with how many calls are under way on it.
type way struct {
	tree.Tree
	busy atomic.Int64
}

// Over makes a tree of connections to one place. At least one must be given.
func Over(connections ...tree.Tree) *Tree {
	t := &Tree{}
	t.Use = func(_ context.Context, _ bool, do func(tree.Tree) error) error {
		w, done := t.take()
		defer done()
		return do(w.Tree)
	}
	for _, c := range connections {
		t.ways = append(t.ways, &way{Tree: c})
	}
	return t
}

// take chooses a connection. The caller must call done when the call has ended.
func (t *Tree) take() (w *way, done func()) {
	start := t.turn.Add(1)
	for i := range t.ways {
		other := t.ways[(start+uint64(i))%uint64(len(t.ways))]
		if w == nil || other.busy.Load() < w.busy.Load() {
			w = other
		}
	}
	w.busy.Add(1)
	return w, func() { w.busy.Add(-1) }
}

func (t *Tree) Capabilities() tree.Capabilities { return t.ways[0].Capabilities() }

func (t *Tree) Open(ctx context.Context, name string) (tree.Content, error) {
	return t.open(func(w tree.Tree) (tree.Content, error) { return w.Open(ctx, name) })
}

// OpenExpected opens a file whose Entry is known, where the connection's tree can.
func (t *Tree) OpenExpected(ctx context.Context, name string, expected tree.Entry) (tree.Content, error) {
	return t.open(func(w tree.Tree) (tree.Content, error) { return tree.OpenExpected(ctx, w, name, expected) })
}

func (t *Tree) open(with func(tree.Tree) (tree.Content, error)) (tree.Content, error) {
	w, done := t.take()
	c, err := with(w.Tree)
	if err != nil {
		done()
		return nil, err
	}
	return &open{c, done}, nil
}

// open is an open file: its connection is busy until it is closed.
type open struct {
	tree.Content
	done func()
}

func (o *open) Close() error {
	defer o.done()
	return o.Content.Close()
}

// Unwrap is the open file of the connection.
func (o *open) Unwrap() tree.Content { return o.Content }

// Flush makes lasting what was staged over any of the connections.
func (t *Tree) Flush(ctx context.Context) (err error) {
	for _, w := range t.ways {
		err = errors.Join(err, tree.Flush(ctx, w.Tree))
	}
	return err
}

// Watch tells of changes over one of the connections, where its tree can.
func (t *Tree) Watch(ctx context.Context) iter.Seq2[string, error] {
	return tree.Watch(ctx, t.ways[0].Tree)
}

// Close ends all connections.
func (t *Tree) Close() (err error) {
	for _, w := range t.ways {
		err = errors.Join(err, w.Close())
	}
	return err
}
