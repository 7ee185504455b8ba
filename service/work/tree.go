package work

import (
	"context"
	"fmt"

	"bridgespan/tree"
)

// Tree is a tree that is changed only while the lease is held: else a change returns an
// error that wraps ErrLost and tree.ErrUnreachable, after which nothing else is tried. An
// instance that stood still would otherwise finish what it was about to do, after another
// one has done it.
func (l *Lease) Tree(below tree.Tree) tree.Tree {
	g := &guarded{below: below}
	g.Use = func(_ context.Context, writes bool, do func(tree.Tree) error) error {
		if writes {
			if err := l.Check(); err != nil {
				return fmt.Errorf("%w: %w", tree.ErrUnreachable, err)
			}
		}
		return do(below)
	}
	return g
}

type guarded struct {
	tree.Forwarder
	below tree.Tree
}

func (g *guarded) Capabilities() tree.Capabilities { return g.below.Capabilities() }

func (g *guarded) Close() error { return g.below.Close() }
