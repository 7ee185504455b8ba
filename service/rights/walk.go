package rights

import (
	"context"
	"iter"
	"math"
	"path"
	"slices"
	"strings"
	"sync/atomic"

	"bridgespan/core/acl"
	"bridgespan/tree"
)

// walker goes through a place and everything below it in the order of
// acl.PathOrder, so that two of them can be compared side by side.
type walker struct {
	tree tree.Tree
	top  string // in the tree
	// after is the path up to which all was seen in an earlier part of the work; "" for none.
	after string
	// seen is how much of all is behind, from 0 to 1, as far as can be told.
	seen fraction
}

// fraction is a number that one goroutine adds to while others read it.
type fraction struct{ bits atomic.Uint64 }

func (f *fraction) add(share float64) { f.bits.Store(math.Float64bits(f.get() + share)) }
func (f *fraction) get() float64      { return math.Float64frombits(f.bits.Load()) }

// nodes yields what is there, first the place itself.
func (w *walker) nodes(ctx context.Context, folder bool) iter.Seq2[acl.Node, error] {
	return func(yield func(acl.Node, error) bool) {
		d, err := w.tree.Descriptor(ctx, w.top)
		if err != nil {
			yield(acl.Node{}, err)
			return
		}
		if w.wanted(".") && !yield(acl.Node{Path: ".", Folder: folder, Descriptor: d}, nil) || !folder {
			return
		}
		w.folder(ctx, ".", 1, yield)
	}
}

// wanted reports whether a path was not seen in an earlier part of the work.
func (w *walker) wanted(name string) bool {
	return w.after == "" || acl.PathOrder(name, w.after) > 0
}

// behind reports whether a folder and everything below it was seen earlier.
func (w *walker) behind(name string) bool {
	return !w.wanted(name) && w.after != name && !strings.HasPrefix(w.after, name+"/")
}

// folder goes through a folder, each before what it holds, and reports whether
// to go on. weight is how much of all it may be.
func (w *walker) folder(ctx context.Context, name string, weight float64, yield func(acl.Node, error) bool) bool {
	var list []acl.Node
	folders := 0
	for e, err := range w.tree.List(ctx, path.Join(w.top, name), tree.WithDescriptors) {
		if err != nil {
			yield(acl.Node{}, err)
			return false
		}
		if tree.Reserved(e.Name) {
			continue
		}
		if e.Kind == tree.Folder {
			folders++
		}
		list = append(list, acl.Node{Path: path.Join(name, e.Name), Folder: e.Kind == tree.Folder, Descriptor: e.Descriptor})
	}
	slices.SortFunc(list, func(a, b acl.Node) int { return acl.PathOrder(a.Path, b.Path) })
	share := weight / float64(folders+1)
	w.seen.add(share)
	for _, node := range list {
		if w.wanted(node.Path) && !yield(node, nil) {
			return false
		}
		switch {
		case !node.Folder:
		case w.behind(node.Path):
			w.seen.add(share)
		case !w.folder(ctx, node.Path, share, yield):
			return false
		}
	}
	return true
}

// ahead runs a sequence in a goroutine of its own, some items ahead of who
// takes them, so that two servers work at the same time.
func ahead[T any](ctx context.Context, items iter.Seq2[T, error]) iter.Seq2[T, error] {
	type item struct {
		value T
		err   error
	}
	return func(yield func(T, error) bool) {
		inner, stop := context.WithCancel(ctx)
		ready := make(chan item, 512)
		ended := make(chan struct{})
		defer func() { stop(); <-ended }() // nothing is used after the sequence ended
		go func() {
			defer close(ended)
			defer close(ready)
			for value, err := range items {
				select {
				case ready <- item{value, err}:
				case <-inner.Done():
					return
				}
			}
		}()
		for i := range ready {
			if !yield(i.value, i.err) {
				return
			}
		}
		if err := ctx.Err(); err != nil { // it did not end: it was ended
			var none T
			yield(none, err)
		}
	}
}

// sided marks the errors of a place as its own.
func sided(l *look, nodes iter.Seq2[acl.Node, error]) iter.Seq2[acl.Node, error] {
	return func(yield func(acl.Node, error) bool) {
		for node, err := range nodes {
			if err != nil {
				err = sideError{l, err}
			}
			if !yield(node, err) {
				return
			}
		}
	}
}
