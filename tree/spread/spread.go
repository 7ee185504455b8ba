// Package spread is a tree over several connections to one place: each call goes
// over the one on which least is under way. A server that works off what comes
// over one connection one after the other, as SMB servers do, does several things
// at a time then.
package spread

import (
	"context"
	"errors"
	"io"
	"iter"
	"sync/atomic"

	"bridgespan/core/acl"
	"bridgespan/core/chunk"
	"bridgespan/tree"
)

// Tree is a tree over several connections. It must be made by Over.
type Tree struct {
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

func (t *Tree) Stat(ctx context.Context, name string) (tree.Entry, error) {
	w, done := t.take()
	defer done()
	return w.Stat(ctx, name)
}

func (t *Tree) List(ctx context.Context, name string, detail tree.Detail) iter.Seq2[tree.Entry, error] {
	return func(yield func(tree.Entry, error) bool) {
		w, done := t.take()
		defer done()
		for e, err := range w.List(ctx, name, detail) {
			if !yield(e, err) {
				return
			}
		}
	}
}

func (t *Tree) Open(ctx context.Context, name string) (tree.Content, error) {
	return t.open(name, func(w tree.Tree) (tree.Content, error) { return w.Open(ctx, name) })
}

// OpenExpected opens a file whose Entry is known, where the connection's tree can.
func (t *Tree) OpenExpected(ctx context.Context, name string, expected tree.Entry) (tree.Content, error) {
	return t.open(name, func(w tree.Tree) (tree.Content, error) { return tree.OpenExpected(ctx, w, name, expected) })
}

func (t *Tree) open(name string, with func(tree.Tree) (tree.Content, error)) (tree.Content, error) {
	w, done := t.take()
	c, err := with(w.Tree)
	if err != nil {
		done()
		return nil, err
	}
	return &open{c, w, name, done}, nil
}

// open is an open file: its connection is busy until it is closed.
type open struct {
	tree.Content
	way  *way
	name string
	done func()
}

func (o *open) Close() error {
	defer o.done()
	return o.Content.Close()
}

// Unwrap is the open file of the connection.
func (o *open) Unwrap() tree.Content { return o.Content }

// Current describes the file as it is now.
func (o *open) Current(ctx context.Context) (tree.Entry, error) {
	if c, ok := o.Content.(tree.Current); ok {
		return c.Current(ctx)
	}
	return o.way.Stat(ctx, o.name)
}

func (t *Tree) Put(ctx context.Context, name string, content io.Reader, options tree.PutOptions) (tree.Entry, error) {
	w, done := t.take()
	defer done()
	return w.Put(ctx, name, content, options)
}

func (t *Tree) Mkdir(ctx context.Context, name string) error {
	w, done := t.take()
	defer done()
	return w.Mkdir(ctx, name)
}

func (t *Tree) Rename(ctx context.Context, from, to string, replace bool) error {
	w, done := t.take()
	defer done()
	return w.Rename(ctx, from, to, replace)
}

func (t *Tree) Remove(ctx context.Context, name string) error {
	w, done := t.take()
	defer done()
	return w.Remove(ctx, name)
}

func (t *Tree) Descriptor(ctx context.Context, name string) (acl.Descriptor, error) {
	w, done := t.take()
	defer done()
	return w.Descriptor(ctx, name)
}

func (t *Tree) Apply(ctx context.Context, name string, meta tree.Meta) error {
	w, done := t.take()
	defer done()
	return w.Apply(ctx, name, meta)
}

func (t *Tree) Space(ctx context.Context) (tree.Space, error) {
	w, done := t.take()
	defer done()
	return w.Space(ctx)
}

// Stage writes a new file; where the connection's tree cannot, it is put, and
// flushed at once.
func (t *Tree) Stage(ctx context.Context, name string, content io.Reader, options tree.PutOptions) (tree.Entry, error) {
	w, done := t.take()
	defer done()
	return tree.Stage(ctx, w.Tree, name, content, options)
}

// Protect keeps everybody else out of a folder, where the connection's tree can.
func (t *Tree) Protect(ctx context.Context, folder string) error {
	w, done := t.take()
	defer done()
	return tree.Protect(ctx, w.Tree, folder)
}

// Flush makes lasting what was staged over any of the connections.
func (t *Tree) Flush(ctx context.Context) (err error) {
	for _, w := range t.ways {
		err = errors.Join(err, tree.Flush(ctx, w.Tree))
	}
	return err
}

// Assemble makes a file of parts of another one, where the connection's tree can.
func (t *Tree) Assemble(ctx context.Context, name, base string, parts []chunk.Part, content io.ReaderAt, options tree.PutOptions) (tree.Entry, error) {
	w, done := t.take()
	defer done()
	a, ok := w.Tree.(tree.Assembler)
	if !ok {
		return tree.Entry{}, tree.PathError("assemble", name, tree.ErrUnsupported)
	}
	return a.Assemble(ctx, name, base, parts, content, options)
}

// Exchange lets two files change places, where the connection's tree can.
func (t *Tree) Exchange(ctx context.Context, a, b string) error {
	w, done := t.take()
	defer done()
	if x, ok := w.Tree.(tree.Exchanger); ok {
		return x.Exchange(ctx, a, b)
	}
	return tree.PathError("exchange", a, tree.ErrUnsupported)
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
