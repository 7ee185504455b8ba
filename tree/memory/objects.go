package memory

import (
	"context"
	"path"

	"bridgespan/tree"
)

// imply makes the folders of a name in an object store, as far as nobody has.
func (t *Tree) imply(folder string) {
	for ; t.nodes[t.key(folder)] == nil; folder = path.Dir(folder) {
		now := t.now()
		t.nodes[t.key(folder)] = &node{path: folder, kind: tree.Folder, modified: now, created: now, implied: true}
	}
}

// vanish removes the folders of an object store, from one upward, that nobody made and that
// hold nothing any more.
func (t *Tree) vanish(folder string) {
	for ; folder != "."; folder = path.Dir(folder) {
		n := t.nodes[t.key(folder)]
		if n == nil || !n.implied || len(t.children(n)) > 0 {
			return
		}
		delete(t.nodes, t.key(folder))
	}
}

// MakeStub lets a file be a stub, as if its content were elsewhere; whoever reads it fetches
// it, and asks for the fault "fetch" before.
func (t *Tree) MakeStub(ctx context.Context, name string) error {
	if err := t.begin(ctx, "stub", name); err != nil {
		return err
	}
	defer t.mu.Unlock()
	n, err := t.find("stub", name)
	if err == nil && n.kind != tree.File {
		err = tree.PathError("stub", name, tree.ErrKind)
	}
	if err == nil {
		n.residency = tree.Stub
	}
	return err
}

// fetch fills a stub that is read.
func (t *Tree) fetch(name string) error {
	t.mu.Lock()
	n := t.nodes[t.key(name)]
	stub := n != nil && n.residency == tree.Stub
	t.mu.Unlock()
	if !stub {
		return nil
	}
	if err := t.fault("fetch", name); err != nil {
		return err
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	n.residency = tree.Whole
	return nil
}
