package replication

import (
	"context"
	"errors"
	"fmt"

	"bridgespan/tree"
)

// What is on its way in, and what an attic keeps, is nobody's business but ours: the work
// folder is made for us alone before anything is in it, and is looked at by each scan.

// makeWorkFolder makes the work folder of a replica, if it is not there. Under its own
// name it is protected from the start.
func (e *Engine) makeWorkFolder(ctx context.Context, r *Replica) error {
	if _, err := r.Tree.Stat(ctx, workFolder); !absent(err) {
		return err
	}
	fresh := workFolder + "-" + e.Unique()
	if err := r.Tree.Mkdir(ctx, fresh); err != nil {
		return err
	}
	err := tree.Protect(ctx, r.Tree, fresh)
	if err == nil || errors.Is(err, tree.ErrUnsupported) {
		err = r.Tree.Rename(ctx, fresh, workFolder, false)
	}
	if err != nil {
		err = errors.Join(err, r.Tree.Remove(ctx, fresh))
	}
	return err
}

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
