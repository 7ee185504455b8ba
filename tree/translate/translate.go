// Package translate is a tree whose permissions name the accounts of another
// place: what is read from it is translated, and what is written to it is
// translated back. Content, names and times are those of the tree below.
package translate

import (
	"context"
	"io"
	"iter"

	lru "github.com/hashicorp/golang-lru/v2"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/core/chunk"
	"bridgespan/tree"
)

// Tree is a tree in other accounts. It must be made by New.
type Tree struct {
	tree.Forwarder
	below tree.Tree
	to    func(account.SID) account.SID
	known *lru.Cache[acl.Descriptor, acl.Descriptor] // few descriptors are on many files
}

// mostKnown bounds how many descriptors are remembered.
const mostKnown = 4096

// New makes a tree in which accounts are those that to says. to must be its own
// inverse, as [account.Swap] makes it.
func New(t tree.Tree, to func(account.SID) account.SID) *Tree {
	known, _ := lru.New[acl.Descriptor, acl.Descriptor](mostKnown) // fails for sizes below 1
	tr := &Tree{below: t, to: to, known: known}
	tr.Use = func(_ context.Context, _ bool, do func(tree.Tree) error) error { return do(t) }
	return tr
}

func (t *Tree) translate(name string, d acl.Descriptor) (acl.Descriptor, error) {
	if d.IsZero() {
		return d, nil
	}
	if other, ok := t.known.Get(d); ok {
		return other, nil
	}
	other, err := d.Translate(t.to)
	if err != nil {
		return other, tree.PathError("translate", name, err)
	}
	t.known.Add(d, other)
	return other, nil
}

func (t *Tree) entry(e tree.Entry, err error) (tree.Entry, error) {
	if err != nil {
		return e, err
	}
	e.Descriptor, err = t.translate(e.Name, e.Descriptor)
	return e, err
}

func (t *Tree) Stat(ctx context.Context, name string) (tree.Entry, error) {
	return t.entry(t.below.Stat(ctx, name))
}

func (t *Tree) List(ctx context.Context, name string, detail tree.Detail) iter.Seq2[tree.Entry, error] {
	return func(yield func(tree.Entry, error) bool) {
		for e, err := range t.below.List(ctx, name, detail) {
			if !yield(t.entry(e, err)) {
				return
			}
		}
	}
}

func (t *Tree) Descriptor(ctx context.Context, name string) (acl.Descriptor, error) {
	d, err := t.below.Descriptor(ctx, name)
	if err != nil {
		return d, err
	}
	return t.translate(name, d)
}

// back translates what is to be set.
func (t *Tree) back(name string, meta *tree.Meta) (err error) {
	meta.Descriptor, err = t.translate(name, meta.Descriptor)
	return err
}

func (t *Tree) Apply(ctx context.Context, name string, meta tree.Meta) error {
	if err := t.back(name, &meta); err != nil {
		return err
	}
	return t.below.Apply(ctx, name, meta)
}

func (t *Tree) Put(ctx context.Context, name string, content io.Reader, options tree.PutOptions) (tree.Entry, error) {
	if err := t.back(name, &options.Meta); err != nil {
		return tree.Entry{}, err
	}
	return t.entry(t.below.Put(ctx, name, content, options))
}

// Stage writes a new file; where the tree below cannot, it is put, and flushed
// at once.
func (t *Tree) Stage(ctx context.Context, name string, content io.Reader, options tree.PutOptions) (tree.Entry, error) {
	if err := t.back(name, &options.Meta); err != nil {
		return tree.Entry{}, err
	}
	return t.entry(tree.Stage(ctx, t.below, name, content, options))
}

// Assemble makes a file of parts of another one, where the tree below can.
func (t *Tree) Assemble(ctx context.Context, name, base string, parts []chunk.Part, content io.ReaderAt, options tree.PutOptions) (tree.Entry, error) {
	if err := t.back(name, &options.Meta); err != nil {
		return tree.Entry{}, err
	}
	return t.entry(tree.Assemble(ctx, t.below, name, base, parts, content, options))
}

// StageStub stages a stub, where the tree below can.
func (t *Tree) StageStub(ctx context.Context, name string, mark tree.Mark, options tree.PutOptions) (tree.Entry, error) {
	if err := t.back(name, &options.Meta); err != nil {
		return tree.Entry{}, err
	}
	return t.entry(tree.StageStub(ctx, t.below, name, mark, options))
}

func (t *Tree) Capabilities() tree.Capabilities { return t.below.Capabilities() }

func (t *Tree) Close() error { return t.below.Close() }
