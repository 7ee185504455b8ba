package rights

import (
	"cmp"
	"context"
	"iter"

	"bridgespan/core/acl"
	"bridgespan/tree"
)

// nodes are what a walk meets, as far as permissions go. Errors are marked as
// those of the place.
func nodes(ctx context.Context, l *look, walk *tree.Ordered) iter.Seq2[acl.Node, error] {
	return func(yield func(acl.Node, error) bool) {
		for e, err := range walk.All(ctx) {
			if err = cmp.Or(err, e.Unread); err != nil {
				err = sideError{l, err}
			}
			if !yield(acl.Node{Path: e.Path, Folder: e.Kind == tree.Folder, Descriptor: e.Descriptor}, err) {
				return
			}
		}
	}
}
