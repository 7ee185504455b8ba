package tree

import (
	"cmp"
	"context"
	"errors"
	"iter"
	"math"
	"path"
	"slices"
	"strings"
	"sync/atomic"

	"bridgespan/core/paths"
	"bridgespan/guard"
)

// Ordered walks through a tree in the order of [paths.Order], so that two of
// them can be put side by side, and so that a walk can go on where it stopped.
// It leaves out what belongs to the service itself.
type Ordered struct {
	Tree   Tree
	Top    string // where it begins; "." for the root
	Detail Detail
	// Folded puts names in the order of their keys, whatever their case: then names that
	// differ in it alone follow each other.
	Folded bool
	// After is the path, from the top, up to which all was seen in an earlier walk; "" for none.
	// It must be none of a walk that is folded.
	After string
	// Seen is how much of all is behind, from 0 to 1, as far as can be told.
	Seen Fraction
}

// Fraction is a number that one goroutine adds to while others read it.
type Fraction struct{ bits atomic.Uint64 }

func (f *Fraction) add(share float64) { f.bits.Store(math.Float64bits(f.Get() + share)) }

// Get reads the number.
func (f *Fraction) Get() float64 { return math.Float64frombits(f.bits.Load()) }

// All yields what is there, first the top itself as ".". What cannot be read, and folders
// that cannot be listed, are yielded with Unread. An error ends the walk: that of the top,
// or of a server that does not answer.
func (w *Ordered) All(ctx context.Context) iter.Seq2[Named, error] {
	return func(yield func(Named, error) bool) {
		top, err := w.Tree.Stat(ctx, w.Top)
		if err == nil && w.Detail == WithDescriptors {
			top.Descriptor, err = w.Tree.Descriptor(ctx, w.Top)
		}
		if err != nil {
			yield(Named{}, err)
			return
		}
		if w.wanted(".") && !yield(Named{Path: ".", Entry: top}, nil) || top.Kind != Folder {
			return
		}
		early := newEarly(ctx, w.list)
		defer early.end()
		w.folder(early, early.list("."), 1, yield)
	}
}

// wanted reports whether a path was not seen in an earlier walk.
func (w *Ordered) wanted(name string) bool {
	return w.After == "" || paths.Order(name, w.After) > 0
}

// behind reports whether a folder and everything below it was seen earlier.
func (w *Ordered) behind(name string) bool {
	return !w.wanted(name) && w.After != name && !strings.HasPrefix(w.After, name+"/")
}

// folder goes through a folder, each before what it holds, and reports whether
// to go on. weight is how much of all it may be.
func (w *Ordered) folder(early *early, listed *listing, weight float64, yield func(Named, error) bool) bool {
	list, err := listed.get()
	if err != nil {
		yield(Named{}, err)
		return false
	}
	var folders []Named // that are to be gone through
	all := 0
	for _, e := range list {
		if e.Kind == Folder {
			all++
			if !w.behind(e.Path) {
				folders = append(folders, e)
			}
		}
	}
	share := weight / float64(all+1)
	w.Seen.add(share)
	below := early.below(folders)
	for _, e := range list {
		var inside *listing
		if e.Kind == Folder && !w.behind(e.Path) {
			inside = below()
			if _, err := inside.get(); err != nil && early.ctx.Err() == nil && !errors.Is(err, ErrUnreachable) {
				e.Unread, inside = err, nil
				w.Seen.add(share)
			}
		} else if e.Kind == Folder {
			w.Seen.add(share)
		}
		if w.wanted(e.Path) && !yield(e, nil) {
			return false
		}
		if inside != nil && !w.folder(early, inside, share, yield) {
			return false
		}
	}
	return true
}

// list lists a folder, in order.
func (w *Ordered) list(ctx context.Context, name string) (list []Named, err error) {
	for e, err := range w.Tree.List(ctx, path.Join(w.Top, name), w.Detail) {
		if err != nil && (e.Name == "" || errors.Is(err, ErrUnreachable) || ctx.Err() != nil) {
			return nil, err
		}
		if !Reserved(e.Name) {
			list = append(list, Named{Path: path.Join(name, e.Name), Entry: e, Unread: err})
		}
	}
	slices.SortFunc(list, func(a, b Named) int {
		if w.Folded {
			return cmp.Or(paths.Order(Key(a.Path, false), Key(b.Path, false)), paths.Order(a.Path, b.Path))
		}
		return paths.Order(a.Path, b.Path)
	})
	return list, nil
}

// Ahead runs a sequence in a goroutine of its own, some items ahead of who
// takes them, so that two servers work at the same time. When ctx ends before
// the sequence does, its error comes last.
func Ahead[T any](ctx context.Context, items iter.Seq2[T, error]) iter.Seq2[T, error] {
	type item struct {
		value T
		err   error
	}
	return func(yield func(T, error) bool) {
		inner, stop := context.WithCancel(ctx)
		ready := make(chan item, 512)
		ended := make(chan struct{})
		defer func() { stop(); <-ended }() // nothing is used after the sequence ended
		pass := func(i item) bool {
			select {
			case ready <- i:
				return true
			case <-inner.Done():
				return false
			}
		}
		guard.Go(func() {
			defer close(ended)
			defer close(ready)
			if err := guard.Do(func() { items(func(value T, err error) bool { return pass(item{value, err}) }) }); err != nil {
				pass(item{err: err})
			}
		})
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
