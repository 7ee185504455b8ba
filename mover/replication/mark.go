package replication

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

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
	text, err := tree.ReadFile(ctx, r.Tree, MarkFile)
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
