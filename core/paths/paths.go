// Package paths puts two trees side by side: the order in which an orderly walk
// meets paths, and what each of two such walks has at every path.
package paths

import (
	"cmp"
	"iter"
	"strings"
)

// Order orders paths as an orderly walk meets them: the top "." first, a folder
// before what it holds, and that before its next sibling.
func Order(a, b string) int {
	switch {
	case a == b:
		return 0
	case a == ".":
		return -1
	case b == ".":
		return 1
	}
	for {
		x, restA, moreA := strings.Cut(a, "/")
		y, restB, moreB := strings.Cut(b, "/")
		if c := cmp.Compare(x, y); c != 0 {
			return c
		}
		switch {
		case !moreA && !moreB:
			return 0
		case !moreA:
			return -1
		case !moreB:
			return 1
		}
		a, b = restA, restB
	}
}

// Pair is what two walks have at one path: nil where the path is missing.
type Pair[T any] struct {
	Path          string
	First, Second *T
}

// Pairs yields what two walks have at each path of either. Both must come in
// Order, and so do the pairs: work that ended after a pair can go on with what
// comes after its path. It holds one item of each walk at a time.
func Pairs[T any](first, second iter.Seq2[T, error], path func(T) string) iter.Seq2[Pair[T], error] {
	return func(yield func(Pair[T], error) bool) {
		nextA, stopA := iter.Pull2(first)
		defer stopA()
		nextB, stopB := iter.Pull2(second)
		defer stopB()
		a, errA, okA := nextA()
		b, errB, okB := nextB()
		for okA || okB {
			if err := cmp.Or(errA, errB); err != nil {
				yield(Pair[T]{}, err)
				return
			}
			order := 0
			switch {
			case !okB:
				order = -1
			case !okA:
				order = 1
			default:
				order = Order(path(a), path(b))
			}
			var p Pair[T]
			if order >= 0 {
				item := b
				p.Path, p.Second = path(b), &item
			}
			if order <= 0 {
				item := a
				p.Path, p.First = path(a), &item
			}
			if !yield(p, nil) {
				return
			}
			if order <= 0 {
				a, errA, okA = nextA()
			}
			if order >= 0 {
				b, errB, okB = nextB()
			}
		}
	}
}
