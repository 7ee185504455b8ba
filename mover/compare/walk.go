package compare

import (
	"cmp"
	"context"
	"iter"
	"path"
	"strings"
	"time"

	"bridgespan/core/paths"
	"bridgespan/tree"
)

// Walk goes through two trees side by side.
type Walk struct {
	First, Second Side
	Detail        tree.Detail
	// Folded puts names that differ in case alone beside each other, and pairs by their keys.
	Folded bool
	// After is the path up to which all was compared by an earlier walk; "" for none. It must
	// be "" of a walk that is folded.
	After string

	walks    [2]*tree.Ordered
	took     [2]time.Duration
	unlisted string // the folder that could not be listed at one side
}

// Pair is what both sides have at a path; nil where one has nothing.
type Pair = paths.Pair[tree.Named]

// Pairs yields each path of either tree, in [paths.Order]. What lies in a folder that could
// not be listed at one side is left out: it can neither be compared nor be called missing. An
// error, a [*SideError], ends the walk: that of a top, or of a server that does not answer.
func (w *Walk) Pairs(ctx context.Context) iter.Seq2[Pair, error] {
	return func(yield func(Pair, error) bool) {
		first, second := w.side(ctx, 0, &w.First), w.side(ctx, 1, &w.Second)
		for p, err := range paths.Pairs(tree.Ahead(ctx, first), tree.Ahead(ctx, second), w.key) {
			if err == nil && w.hidden(p) {
				continue
			}
			if !yield(p, err) || err != nil {
				return
			}
		}
		if err := ctx.Err(); err != nil {
			yield(Pair{}, err)
		}
	}
}

func (w *Walk) key(e tree.Named) string {
	if w.Folded {
		return tree.Key(e.Path, false)
	}
	return e.Path
}

// hidden reports whether a pair lies in a folder that could not be listed.
func (w *Walk) hidden(p Pair) bool {
	if w.unlisted != "" && strings.HasPrefix(p.Path, w.unlisted+"/") {
		return true
	}
	w.unlisted = ""
	for _, e := range []*tree.Named{p.First, p.Second} {
		if e != nil && e.Kind == tree.Folder && e.Unread != nil {
			w.unlisted = p.Path
		}
	}
	return false
}

// Resumable reports whether an earlier walk may have ended after the last pair: not inside a
// folder that could not be listed.
func (w *Walk) Resumable() bool { return w.unlisted == "" }

// Seen is how much of all is behind, from 0 to 1, as far as can be told.
func (w *Walk) Seen() float64 {
	seen := 1.0
	for _, walk := range w.walks {
		if walk != nil {
			seen = min(seen, walk.Seen.Get())
		}
	}
	return seen
}

// Took is how long the walk through a side took, 0 or 1, with all waits for the other one.
func (w *Walk) Took(side int) time.Duration { return w.took[side] }

// side walks through one side.
func (w *Walk) side(ctx context.Context, i int, s *Side) iter.Seq2[tree.Named, error] {
	if s.Tree == nil {
		return func(func(tree.Named, error) bool) {}
	}
	walk := &tree.Ordered{Tree: s.Tree, Top: cmp.Or(s.Top, "."), Detail: w.Detail, Folded: w.Folded, After: w.After}
	w.walks[i] = walk
	return func(yield func(tree.Named, error) bool) {
		began := time.Now()
		defer func() { w.took[i] = time.Since(began) }()
		for e, err := range walk.All(ctx) {
			if err != nil {
				yield(tree.Named{}, &SideError{i, s.Name, err})
				return
			}
			if s.Keep != nil && !s.Keep(e) {
				continue
			}
			if !yield(e, nil) {
				return
			}
		}
	}
}

// path is where a path of the comparison lies in the tree of a side.
func (s *Side) path(name string) string { return path.Join(cmp.Or(s.Top, "."), name) }
