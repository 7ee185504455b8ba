package replication

import (
	"context"
	"errors"

	"bridgespan/core/replica"
	"bridgespan/tree"
)

// What comes into an attic is sealed where its exact path would be enough to open it. Its
// permissions are read and kept first, since they are set again when it is restored: a store
// that fails, or an engine that ends, between the two leaves it open and loses nothing.

// readSealed notes the permissions of what is about to be sealed.
func (e *Engine) readSealed(ctx context.Context, c *replica.Change) error {
	t := e.replica(c.Replica).Tree
	if !t.Capabilities().Seals {
		return nil
	}
	for i := range c.Kept {
		var err error
		if c.Kept[i].Descriptor, err = t.Descriptor(ctx, c.Kept[i].Attic); err != nil && !absent(err) {
			return err
		}
	}
	return nil
}

// seal seals what a change has put into an attic. What cannot be sealed keeps its
// permissions, at a path that nobody can list or guess.
func (e *Engine) seal(ctx context.Context, c replica.Change) {
	r := e.replica(c.Replica)
	for _, kept := range c.Kept {
		if kept.Descriptor.IsZero() {
			continue
		}
		if err := tree.Seal(ctx, r.Tree, kept.Attic); err != nil && !absent(err) && !errors.Is(err, tree.ErrUnsupported) {
			e.trouble(r, kept.Path, err)
		}
	}
}
