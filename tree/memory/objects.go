package memory

import (
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
