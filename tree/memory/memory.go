// Package memory keeps a tree in memory. It is what simulations and tests run
// on: its clock is given, and faults can be injected before any operation.
package memory

import (
	"context"
	"fmt"
	"io/fs"
	"iter"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/chunk"
	"bridgespan/tree"
)

// Tree is a tree in memory. The zero value is empty, case-insensitive, without
// bound and ready to use.
type Tree struct {
	// CaseSensitive tells names that differ only in case apart.
	CaseSensitive bool
	// Capacity bounds the bytes of all files together; 0 means 1 GiB.
	Capacity int64
	// Objects lets the tree be an object store: folders that are there for as long as something
	// is in them, no numbers, no ranges, no two files that change places, and versions.
	Objects bool
	// Far is told of the tree: that what is read of it comes over a network.
	Far bool
	// Now is the clock that stamps changes; nil means a clock that advances
	// one second with every change.
	Now func() time.Time
	// Fault is asked before every step of an operation ("stat", "list", "exchange",
	// "open", "read", "stage", "write", "flush", "commit", "mkdir", "rename",
	// "remove", "apply"); the error that it returns is what the step returns.
	Fault func(step, name string) error
	// Keep makes of bytes that are written what is kept of them, as many; nil keeps them.
	Keep func(name string, written []byte) []byte
	// Source has the contents of stubs, of so many bytes; without one, what is offloaded is put aside.
	Source func(ctx context.Context, name string, size int64, mark tree.Mark) ([]byte, error)

	mu     sync.Mutex
	nodes  map[string]*node // by key of the full name; the root is "."
	lastID uint64
	used   int64
	ticks  int64
}

type node struct {
	path       string // as stored
	kind       tree.Kind
	content    []byte
	modified   time.Time
	created    time.Time
	id         uint64
	attributes tree.Attributes
	descriptor acl.Descriptor
	residency  tree.Residency
	mark       tree.Mark    // of a stub
	digest     chunk.Digest // as told by who wrote it; object stores
	aside      []byte       // content of a stub of a tree without a Source
	implied    bool         // a folder of an object store that nobody made
}

// digests is how long a file of an object store is that is kept with its hash only if that was told.
const digests = 16

func (t *Tree) Capabilities() tree.Capabilities {
	if t.Objects {
		return tree.Capabilities{CaseSensitive: t.CaseSensitive, Descriptors: true, PassiveDescriptors: true, MaxName: 255, Far: t.Far, Versions: true, Digests: digests, CostlyDetail: true, WholePuts: true, SlowRename: true, NoFolders: true}
	}
	return tree.Capabilities{CaseSensitive: t.CaseSensitive, Descriptors: true, IDs: true, MaxName: 255, Ranges: true, Grows: true, Far: t.Far, Stubs: true}
}

func (t *Tree) Close() error { return nil }

func (t *Tree) key(name string) string { return tree.Key(name, t.CaseSensitive) }

// begin checks a name, asks for a fault and takes the lock.
func (t *Tree) begin(ctx context.Context, op, name string) error {
	if err := tree.CheckName(op, name); err != nil {
		return err
	}
	for element := range strings.SplitSeq(name, "/") {
		if len(element) > 255 {
			return tree.PathError(op, name, fmt.Errorf("%w: element longer than 255 bytes", fs.ErrInvalid))
		}
	}
	if err := ctx.Err(); err != nil {
		return tree.PathError(op, name, err)
	}
	if err := t.fault(op, name); err != nil {
		return err
	}
	t.mu.Lock()
	if t.nodes == nil {
		t.nodes = map[string]*node{".": {path: ".", kind: tree.Folder, id: 1, modified: time.Unix(0, 0), created: time.Unix(0, 0)}}
		t.lastID = 1
	}
	return nil
}

func (t *Tree) fault(step, name string) error {
	if t.Fault == nil {
		return nil
	}
	return tree.PathError(step, name, t.Fault(step, name))
}

func (t *Tree) now() time.Time {
	if t.Now != nil {
		return t.Now()
	}
	t.ticks++
	return time.Unix(t.ticks, 0)
}

func (t *Tree) capacity() int64 {
	if t.Capacity == 0 {
		return 1 << 30
	}
	return t.Capacity
}

func (t *Tree) entry(n *node, detail tree.Detail) tree.Entry {
	e := tree.Entry{Name: path.Base(n.path), Kind: n.kind, Size: int64(len(n.content)), Allocated: n.allocated(),
		Modified: n.modified, Created: n.created, ID: n.id, Attributes: n.attributes, Residency: n.residency}
	if t.Objects {
		if e.ID = 0; n.kind == tree.File {
			e.Version, e.Digest = fmt.Sprint("v", n.id), n.digest
		}
	}
	switch detail {
	case tree.WithDescriptors:
		e.Descriptor = n.descriptor
	case tree.Bare: // nobody is to rely on them then
		e.Attributes = 0
	case tree.Versions: // nor on this
		e.Modified, e.Attributes, e.Digest = n.created, 0, chunk.Digest{}
	}
	return e
}

func (t *Tree) find(op, name string) (*node, error) {
	n, ok := t.nodes[t.key(name)]
	if !ok {
		return nil, tree.PathError(op, name, fs.ErrNotExist)
	}
	return n, nil
}

// parent finds the folder that name would live in.
func (t *Tree) parent(op, name string) (*node, error) {
	if t.Objects {
		t.imply(path.Dir(name))
	}
	n, err := t.find(op, path.Dir(name))
	if err == nil && n.kind != tree.Folder {
		return nil, tree.PathError(op, name, tree.ErrKind)
	}
	return n, err
}

func (t *Tree) Stat(ctx context.Context, name string) (tree.Entry, error) {
	if err := t.begin(ctx, "stat", name); err != nil {
		return tree.Entry{}, err
	}
	defer t.mu.Unlock()
	n, err := t.find("stat", name)
	if err != nil {
		return tree.Entry{}, err
	}
	return t.entry(n, tree.Plain), nil
}

func (t *Tree) List(ctx context.Context, name string, detail tree.Detail) iter.Seq2[tree.Entry, error] {
	return func(yield func(tree.Entry, error) bool) {
		entries, err := t.list(ctx, name, detail)
		if err != nil {
			yield(tree.Entry{}, err)
			return
		}
		for _, e := range entries {
			if !yield(e, nil) {
				return
			}
		}
	}
}

func (t *Tree) list(ctx context.Context, name string, detail tree.Detail) ([]tree.Entry, error) {
	if err := t.begin(ctx, "list", name); err != nil {
		return nil, err
	}
	defer t.mu.Unlock()
	n, err := t.find("list", name)
	if err != nil {
		return nil, err
	}
	if n.kind != tree.Folder {
		return nil, tree.PathError("list", name, tree.ErrKind)
	}
	var entries []tree.Entry
	if t.Objects && detail == tree.Versions && !n.implied {
		entries = append(entries, tree.Entry{Name: ".", Kind: tree.Folder})
	}
	for _, child := range t.children(n) {
		entries = append(entries, t.entry(child, detail))
	}
	slices.SortFunc(entries, func(a, b tree.Entry) int { return strings.Compare(a.Name, b.Name) })
	return entries, nil
}

func (t *Tree) children(folder *node) []*node {
	var found []*node
	for _, n := range t.nodes {
		if n != folder && t.key(path.Dir(n.path)) == t.key(folder.path) {
			found = append(found, n)
		}
	}
	return found
}

func (t *Tree) Mkdir(ctx context.Context, name string) error {
	if err := t.begin(ctx, "mkdir", name); err != nil {
		return err
	}
	defer t.mu.Unlock()
	if n, ok := t.nodes[t.key(name)]; ok {
		if n.implied {
			n.implied = false
			return nil
		}
		return tree.PathError("mkdir", name, fs.ErrExist)
	}
	parent, err := t.parent("mkdir", name)
	if err != nil {
		return err
	}
	t.lastID++
	now := t.now()
	t.nodes[t.key(name)] = &node{path: name, kind: tree.Folder, modified: now, created: now, id: t.lastID, descriptor: parent.descriptor}
	return nil
}

func (t *Tree) Rename(ctx context.Context, from, to string, replace bool) error {
	if err := tree.CheckName("rename", to); err != nil {
		return err
	}
	if err := t.begin(ctx, "rename", from); err != nil {
		return err
	}
	defer t.mu.Unlock()
	moved, err := t.find("rename", from)
	if err != nil {
		return err
	}
	if _, err := t.parent("rename", to); err != nil {
		return err
	}
	if strings.HasPrefix(t.key(to)+"/", t.key(from)+"/") && t.key(to) != t.key(from) || from == "." {
		return tree.PathError("rename", to, fmt.Errorf("%w: a folder cannot move into itself", fs.ErrInvalid))
	}
	if old, ok := t.nodes[t.key(to)]; ok && old != moved {
		if !replace || old.kind != tree.File || moved.kind != tree.File {
			return tree.PathError("rename", to, fs.ErrExist)
		}
		t.used -= old.allocated()
	}
	t.move(from, to)
	t.vanish(path.Dir(from))
	return nil
}

// Exchange lets two files change places.
func (t *Tree) Exchange(ctx context.Context, a, b string) error {
	if err := tree.CheckName("exchange", b); err != nil {
		return err
	}
	if t.Objects {
		return tree.PathError("exchange", a, tree.ErrUnsupported)
	}
	if err := t.begin(ctx, "exchange", a); err != nil {
		return err
	}
	defer t.mu.Unlock()
	first, err := t.find("exchange", a)
	if err != nil {
		return err
	}
	second, err := t.find("exchange", b)
	if err != nil {
		return err
	}
	if first.kind != tree.File || second.kind != tree.File {
		return tree.PathError("exchange", b, tree.ErrKind)
	}
	first.path, second.path = second.path, first.path
	t.nodes[t.key(a)], t.nodes[t.key(b)] = second, first
	return nil
}

// move gives a node and everything below it new names.
func (t *Tree) move(from, to string) {
	prefix := t.key(from) + "/"
	moved := map[string]*node{}
	for key, n := range t.nodes {
		if key == t.key(from) || strings.HasPrefix(key, prefix) {
			moved[key] = n
		}
	}
	depth := strings.Count(from, "/") + 1
	for key, n := range moved {
		delete(t.nodes, key)
		below := strings.SplitN(n.path, "/", depth+1)[depth:]
		n.path = path.Join(append([]string{to}, below...)...)
	}
	for _, n := range moved {
		t.nodes[t.key(n.path)] = n
	}
}

func (t *Tree) Remove(ctx context.Context, name string) error {
	if err := t.begin(ctx, "remove", name); err != nil {
		return err
	}
	defer t.mu.Unlock()
	n, err := t.find("remove", name)
	if err != nil {
		return err
	}
	if name == "." {
		return tree.PathError("remove", name, fmt.Errorf("%w: the root stays", fs.ErrInvalid))
	}
	if n.kind == tree.Folder && len(t.children(n)) > 0 {
		return tree.PathError("remove", name, tree.ErrNotEmpty)
	}
	t.used -= n.allocated()
	delete(t.nodes, t.key(name))
	t.vanish(path.Dir(name))
	return nil
}

func (t *Tree) Descriptor(ctx context.Context, name string) (acl.Descriptor, error) {
	if err := t.begin(ctx, "stat", name); err != nil {
		return acl.Descriptor{}, err
	}
	defer t.mu.Unlock()
	n, err := t.find("stat", name)
	if err != nil {
		return acl.Descriptor{}, err
	}
	return n.descriptor, nil
}

func (t *Tree) Apply(ctx context.Context, name string, meta tree.Meta) error {
	if err := t.begin(ctx, "apply", name); err != nil {
		return err
	}
	defer t.mu.Unlock()
	n, err := t.find("apply", name)
	if err != nil {
		return err
	}
	n.apply(meta)
	n.implied = false // an object holds what was set
	return nil
}

func (t *Tree) Space(ctx context.Context) (tree.Space, error) {
	if err := t.begin(ctx, "stat", "."); err != nil {
		return tree.Space{}, err
	}
	defer t.mu.Unlock()
	return tree.Space{Total: t.capacity(), Free: t.capacity() - t.used}, nil
}
