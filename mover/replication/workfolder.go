package replication

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"bridgespan/core/replica"
	"bridgespan/tree"
)

// MarkFile says which replica of which set a folder is. Where it is missing, the
// folder is not the replica: a volume that is not there, say. To take that for
// the removal of everything would remove it everywhere.
const MarkFile = workFolder + "/replica"

// ErrNotReplica is returned, and nothing is done, when a folder does not bear the
// mark of its replica.
var ErrNotReplica = errors.New("the folder is not that of the replica")

// identify checks the mark of a replica. One that was never scanned is given it.
func (e *Engine) identify(ctx context.Context, r *Replica) error {
	want := fmt.Sprintf("%s, replica %d\n", e.Set, r.ID)
	text, err := e.readMark(ctx, r, want)
	// A place that was never looked at may bear an older mark of its own set.
	ours := strings.HasPrefix(string(text), e.Set+", replica ")
	switch {
	case (absent(err) || err == nil && ours && string(text) != want) && !e.scanned(r):
		if err := cmp.Or(tree.MkdirAll(ctx, r.Tree, workFolder), e.protect(ctx, r)); err != nil {
			return err
		}
		_, err := r.Tree.Put(ctx, MarkFile, strings.NewReader(want), tree.PutOptions{Replace: true})
		return err
	case absent(err):
		return fmt.Errorf("%w any more: it has no %s; is its volume there?", ErrNotReplica, MarkFile)
	case err != nil:
		return err
	case string(text) != want:
		return fmt.Errorf("%w: it is marked %q; when there is no such set any more, remove %s there", ErrNotReplica, strings.TrimSpace(string(text)), MarkFile)
	}
	return nil
}

// readMark reads the mark of a replica with as few messages as it can: the mark is read before each
// scan.
func (e *Engine) readMark(ctx context.Context, r *Replica, want string) ([]byte, error) {
	text := make([]byte, len(want))
	content, err := tree.OpenExpected(ctx, r.Tree, MarkFile, tree.Entry{Kind: tree.File, Size: int64(len(want))})
	if err != nil {
		return nil, err
	}
	defer content.Close()
	if n, err := content.ReadAt(text, 0); n == len(want) && string(text) == want {
		return text, nil
	} else if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	return tree.ReadFile(ctx, r.Tree, MarkFile)
}

// A replica must not lie in another one. When both are of one set, what is in the inner
// one is carried into it again and again, without end; when they are of two, these undo
// each other's work. Who makes a set sees to that, as far as can be seen from outside: a
// folder may be reached by ways of which we know nothing. So a scan ends at a folder that
// bears a mark, before anything is noted of what is in it, and nothing is carried from or
// to a replica in which one was found, until a scan finds none.

// findNested is called with a folder in which there is a work folder: it returns ErrNotReplica
// when that bears the mark of a replica.
func (s *scan) findNested(ctx context.Context, folder string) error {
	mark := path.Join(folder, MarkFile)
	text, err := tree.ReadFile(ctx, s.r.Tree, mark)
	if absent(err) {
		return nil
	}
	if err != nil {
		return err
	}
	found := fmt.Errorf("%w alone: %s in it is one itself, marked %q; take one of both out of its set, or, when there is no such set any more, remove %s there", ErrNotReplica, folder, strings.TrimSpace(string(text)), mark)
	s.Engine.mu.Lock()
	defer s.Engine.mu.Unlock()
	if s.Engine.nested == nil {
		s.Engine.nested = map[replica.ID]error{}
	}
	s.Engine.nested[s.r.ID] = found
	return found
}

// containsReplica returns ErrNotReplica while the last scan of a replica found another one
// inside it.
func (e *Engine) containsReplica(r *Replica) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.nested[r.ID]
}

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
