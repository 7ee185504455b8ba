package replicas

import (
	"context"
	"path"

	"bridgespan/model"
	"bridgespan/tree"
)

// throwAway removes something from an attic.
func throwAway(ctx context.Context, t tree.Tree, item model.AtticItem) error {
	if err := t.Remove(ctx, item.Attic); err != nil && !isMissing(err) {
		return err
	}
	prune(ctx, t, item.Attic)
	return nil
}

// prune removes the folders above something that left the attic, when they are empty.
func prune(ctx context.Context, t tree.Tree, name string) {
	for above := path.Dir(name); path.Base(above) != "attic" && above != "."; above = path.Dir(above) {
		if t.Remove(ctx, above) != nil {
			return
		}
	}
}
