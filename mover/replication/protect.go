package replication

import (
	"context"
	"errors"
	"fmt"

	"bridgespan/tree"
)

// What is on its way in, and what an attic keeps, is nobody's business but ours: the work
// folder is protected before anything is put in it, and is looked at by each scan.

// protect has the work folder of a replica keep everybody else out, should somebody have
// changed that, or an earlier version not have done it. Where that does not go it is
// reported.
func (e *Engine) protect(ctx context.Context, r *Replica) error {
	for _, folder := range []string{workFolder, intakeFolder, atticFolder} { // servers do not hand down to what is there
		err := tree.Protect(ctx, r.Tree, folder)
		switch {
		case err == nil, absent(err):
		case errors.Is(err, tree.ErrUnsupported):
			return nil
		case fatal(ctx, err):
			return err
		default:
			e.trouble(r, folder, fmt.Errorf("others may be able to read what is on its way in: %w", err))
		}
	}
	return nil
}
