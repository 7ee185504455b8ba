package memory

import (
	"bytes"
	"context"
	"fmt"

	"bridgespan/tree"
)

// errNoStub: a file has its content, and so no mark.
var errNoStub = fmt.Errorf("%w: it is no stub", tree.ErrUnsupported)

// StageStub stages a file whose content the Source has.
func (t *Tree) StageStub(ctx context.Context, name string, mark tree.Mark, options tree.PutOptions) (tree.Entry, error) {
	if t.Objects || t.Source == nil {
		return tree.Entry{}, tree.PathError("stage", name, tree.ErrUnsupported)
	}
	if err := t.begin(ctx, "stage", name); err != nil {
		return tree.Entry{}, err
	}
	defer t.mu.Unlock()
	if err := t.mayPut(name, options); err != nil {
		return tree.Entry{}, err
	}
	return t.place(&node{content: make([]byte, options.Size), residency: tree.Stub, mark: mark}, name, options)
}

// Offload drops the content of a file, or puts it aside where there is no Source.
func (t *Tree) Offload(ctx context.Context, name string, expected tree.Entry, mark tree.Mark) (tree.Entry, error) {
	if t.Objects {
		return tree.Entry{}, tree.PathError("offload", name, tree.ErrUnsupported)
	}
	if err := t.begin(ctx, "offload", name); err != nil {
		return tree.Entry{}, err
	}
	defer t.mu.Unlock()
	n, err := t.find("offload", name)
	switch {
	case err != nil:
		return tree.Entry{}, err
	case n.kind != tree.File:
		return tree.Entry{}, tree.PathError("offload", name, tree.ErrKind)
	case int64(len(n.content)) != expected.Size || !n.modified.Equal(expected.Modified):
		return tree.Entry{}, tree.PathError("offload", name, tree.ErrVersion)
	case n.residency == tree.Whole:
		if t.Source == nil {
			n.aside = n.content
		}
		t.used -= n.allocated()
		n.content, n.mark, n.residency = make([]byte, len(n.content)), mark, tree.Stub
	}
	return t.entry(n, tree.Plain), nil
}

// Fetch fills a stub from the Source, or with what was put aside. It asks for the fault "fetch".
func (t *Tree) Fetch(ctx context.Context, name string) error {
	_, err := t.fetched(ctx, name)
	return err
}

// FetchPart fills all of a stub.
func (t *Tree) FetchPart(ctx context.Context, name string, _, _ int64) error {
	return t.Fetch(ctx, name)
}

// fetched returns the content of a file, which is fetched where it is a stub.
func (t *Tree) fetched(ctx context.Context, name string) ([]byte, error) {
	if err := t.begin(ctx, "fetch", name); err != nil {
		return nil, err
	}
	n, err := t.find("fetch", name)
	if err != nil {
		t.mu.Unlock()
		return nil, err
	}
	content, mark, size := n.content, n.mark, int64(len(n.content))
	stub := n.residency == tree.Stub
	if stub {
		content = n.aside
	}
	t.mu.Unlock()
	if !stub {
		return content, nil
	}
	if t.Source != nil {
		if content, err = t.Source(ctx, name, size, mark); err != nil {
			return nil, tree.PathError("fetch", name, err)
		}
	}
	if int64(len(content)) != size {
		return nil, tree.PathError("fetch", name, tree.ErrNoContent)
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if n.residency == tree.Stub && n.mark == mark {
		n.content, n.aside, n.residency = bytes.Clone(content), nil, tree.Whole
		t.used += size
	}
	return content, nil
}

// Mark tells what the content of a stub is.
func (t *Tree) Mark(ctx context.Context, name string) (tree.Mark, error) {
	if err := t.begin(ctx, "mark", name); err != nil {
		return tree.Mark{}, err
	}
	defer t.mu.Unlock()
	n, err := t.find("mark", name)
	if err == nil && n.residency != tree.Stub {
		err = tree.PathError("mark", name, errNoStub)
	}
	if err != nil {
		return tree.Mark{}, err
	}
	return n.mark, nil
}
