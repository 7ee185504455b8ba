package sets

import (
	"context"
	"path"

	"bridgespan/model"
	"bridgespan/tree"
)

// ThrowAway removes something from an attic.
func ThrowAway(ctx context.Context, t tree.Tree, item model.AtticItem) error {
	if err := t.Remove(ctx, item.Attic); err != nil && !IsMissing(err) {
		return err
	}
	Prune(ctx, t, item.Attic)
	return nil
}

// Prune removes the folders above something that left the attic, when they are empty.
func Prune(ctx context.Context, t tree.Tree, name string) {
	for above := path.Dir(name); path.Base(above) != "attic" && above != "."; above = path.Dir(above) {
		if t.Remove(ctx, above) != nil {
			return
		}
	}
}
