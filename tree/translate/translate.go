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
	tree.Tree
	to    func(account.SID) account.SID
	known *lru.Cache[acl.Descriptor, acl.Descriptor] // few descriptors are on many files
}

// mostKnown bounds how many descriptors are remembered.
const mostKnown = 4096

// New makes a tree in which accounts are those that to says. to must be its own
// inverse, as [account.Swap] makes it.
func New(t tree.Tree, to func(account.SID) account.SID) *Tree {
	known, _ := lru.New[acl.Descriptor, acl.Descriptor](mostKnown) // fails for sizes below 1
	return &Tree{t, to, known}
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
	return t.entry(t.Tree.Stat(ctx, name))
}

func (t *Tree) List(ctx context.Context, name string, detail tree.Detail) iter.Seq2[tree.Entry, error] {
	return func(yield func(tree.Entry, error) bool) {
		for e, err := range t.Tree.List(ctx, name, detail) {
			if !yield(t.entry(e, err)) {
				return
			}
		}
	}
}

func (t *Tree) Descriptor(ctx context.Context, name string) (acl.Descriptor, error) {
	d, err := t.Tree.Descriptor(ctx, name)
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
	return t.Tree.Apply(ctx, name, meta)
}

func (t *Tree) Put(ctx context.Context, name string, content io.Reader, options tree.PutOptions) (tree.Entry, error) {
	if err := t.back(name, &options.Meta); err != nil {
		return tree.Entry{}, err
	}
	return t.entry(t.Tree.Put(ctx, name, content, options))
}

// Stage writes a new file; where the tree below cannot, it is put, and flushed
// at once.
func (t *Tree) Stage(ctx context.Context, name string, content io.Reader, options tree.PutOptions) (tree.Entry, error) {
	if err := t.back(name, &options.Meta); err != nil {
		return tree.Entry{}, err
	}
	return t.entry(tree.Stage(ctx, t.Tree, name, content, options))
}

// Protect keeps everybody else out of a folder, where the tree below can.
func (t *Tree) Protect(ctx context.Context, folder string) error {
	return tree.Protect(ctx, t.Tree, folder)
}

// Flush makes lasting what was staged.
func (t *Tree) Flush(ctx context.Context) error { return tree.Flush(ctx, t.Tree) }

// Assemble makes a file of parts of another one, where the tree below can.
func (t *Tree) Assemble(ctx context.Context, name, base string, parts []chunk.Part, content io.ReaderAt, options tree.PutOptions) (tree.Entry, error) {
	a, ok := t.Tree.(tree.Assembler)
	if !ok {
		return tree.Entry{}, tree.PathError("assemble", name, tree.ErrUnsupported)
	}
	if err := t.back(name, &options.Meta); err != nil {
		return tree.Entry{}, err
	}
	return t.entry(a.Assemble(ctx, name, base, parts, content, options))
}

// Exchange lets two files change places, where the tree below can.
func (t *Tree) Exchange(ctx context.Context, a, b string) error {
	if x, ok := t.Tree.(tree.Exchanger); ok {
		return x.Exchange(ctx, a, b)
	}
	return tree.PathError("exchange", a, tree.ErrUnsupported)
}

// Watch tells of changes, where the tree below can.
func (t *Tree) Watch(ctx context.Context) iter.Seq2[string, error] { return tree.Watch(ctx, t.Tree) }

func (t *Tree) Open(ctx context.Context, name string) (tree.Content, error) {
	return t.opened(name)(t.Tree.Open(ctx, name))
}

// OpenExpected opens a file whose Entry is known, where the tree below can.
func (t *Tree) OpenExpected(ctx context.Context, name string, expected tree.Entry) (tree.Content, error) {
	return t.opened(name)(tree.OpenExpected(ctx, t.Tree, name, expected))
}

func (t *Tree) opened(name string) func(tree.Content, error) (tree.Content, error) {
	return func(c tree.Content, err error) (tree.Content, error) {
		if err != nil {
			return nil, err
		}
		return &open{c, t, name}, nil
	}
}

// open is an open file.
type open struct {
	tree.Content
	tree *Tree
	name string
}

// Unwrap is the open file of the tree below.
func (o *open) Unwrap() tree.Content { return o.Content }

// Current describes the file as it is now.
func (o *open) Current(ctx context.Context) (tree.Entry, error) {
	if c, ok := o.Content.(tree.Current); ok {
		return o.tree.entry(c.Current(ctx))
	}
	return o.tree.Stat(ctx, o.name)
}
