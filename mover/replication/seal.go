package replication

import (
	"context"
	"errors"

	"bridgespan/core/replica"
	"bridgespan/tree"
)

// seal lets nobody at what was put into an attic, where its exact path would be enough to
// get at it; it is given back the permissions that it had when it is restored. What cannot
// be sealed keeps them: nobody can list or guess where it is.
func (e *Engine) seal(ctx context.Context, c replica.Change) {
	for i := range c.Kept {
		kept := &c.Kept[i]
		had, err := tree.Seal(ctx, e.replica(c.Replica).Tree, kept.Attic)
		switch {
		case err == nil:
			kept.Descriptor = had
		case errors.Is(err, tree.ErrUnsupported), absent(err):
		default:
			e.trouble(e.replica(c.Replica), kept.Path, err)
		}
	}
}
