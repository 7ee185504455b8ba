package replication

import (
	"context"
	"errors"
	"fmt"
	"time"

	"bridgespan/core/replica"
	"bridgespan/tree"
)

// Intakes and attics must be readable by the service only. The work folder is protected
// before anything is put into it, and checked again every few minutes.

// protect removes all access of others to the work folder, in case permissions were changed
// or an earlier version did not set them. A failure is reported, and
// tried again next time.
func (e *Engine) protect(ctx context.Context, r *Replica) error {
	whole := true
	for _, folder := range []string{workFolder, intakeFolder, atticFolder} { // servers do not apply inheritance to existing folders
		err := tree.Protect(ctx, r.Tree, folder)
		switch {
		case err == nil, absent(err):
		case errors.Is(err, tree.ErrUnsupported):
			return nil
		case fatal(ctx, err):
			return err
		default:
			whole = false
			e.trouble(r, folder, fmt.Errorf("others may be able to read what is on its way in: %w", err))
		}
	}
	if whole {
		r.protected = e.Now()
	}
	return nil
}

// protectEvery is how often scans check the protection. The check takes as many messages as
// the scan of a small replica.
const protectEvery = 5 * time.Minute

// protectAgain protects the work folder, unless that was done recently. Scans of one replica do not overlap.
func (e *Engine) protectAgain(ctx context.Context, r *Replica) error {
	if since := e.Now().Sub(r.protected); since >= 0 && since < protectEvery {
		return nil
	}
	return e.protect(ctx, r)
}

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

// permitTop gives the top of a replica that keeps descriptors and has none there that of
// the sender's: what is made in it by hand is handed down something then.
func (e *Engine) permitTop(ctx context.Context, from, to *Replica) error {
	if e.LeavePermissions || !to.Tree.Capabilities().Descriptors || e.isTopPermitted(to) {
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
		if e.topPermitted == nil {
			e.topPermitted = map[replica.ID]bool{}
		}
		e.topPermitted[to.ID] = true
	}
	return err
}

// isTopPermitted reports whether the top of a replica was looked at already.
func (e *Engine) isTopPermitted(r *Replica) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.topPermitted[r.ID]
}
