package replication

import (
	"context"

	"bridgespan/core/replica"
	"bridgespan/tree"
)

// crown gives the top of a replica that keeps descriptors and has none there that of
// the sender's: what is made in it by hand is handed down something then.
func (e *Engine) crown(ctx context.Context, from, to *Replica) error {
	if e.LeavePermissions || !to.Tree.Capabilities().Descriptors || e.isCrowned(to) {
		return nil
	}
	has, err := to.Tree.Descriptor(ctx, ".")
	if err != nil {
		return err
	}
	if has.IsZero() {
		if has, err = from.Tree.Descriptor(ctx, "."); err == nil && !has.IsZero() {
			err = to.Tree.Apply(ctx, ".", tree.Meta{Descriptor: has})
		}
	}
	if err == nil {
		e.mu.Lock()
		defer e.mu.Unlock()
		if e.crowned == nil {
			e.crowned = map[replica.ID]bool{}
		}
		e.crowned[to.ID] = true
	}
	return err
}

// isCrowned reports whether the top of a replica was looked at already.
func (e *Engine) isCrowned(r *Replica) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.crowned[r.ID]
}
