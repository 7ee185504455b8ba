package gateway

import (
	"context"
	"path"

	"bridgespan/tree"
)

// same reports whether two entries are one file or folder that is reached by
// two ways: another share over the same folder, another name of the server.
// Numbers of files are unique on one volume alone, so the time of making counts
// too; where either is unknown nothing is said to be the same.
func same(a, b tree.Entry) bool {
	return a.ID != 0 && a.ID == b.ID && a.Kind == b.Kind && !a.Created.IsZero() && a.Created.Equal(b.Created)
}

// within reports whether what is at a place, or a folder above it, is the same
// as what is at another one. What is above the folder that a signpost leads to
// is not known; what is not there, or may not be read, is passed over.
func (p place) within(ctx context.Context, other place) bool {
	it, err := tree.Identify(ctx, other.tree, other.rest)
	if err != nil {
		return false
	}
	for name := p.rest; ; name = path.Dir(name) {
		if e, err := tree.Identify(ctx, p.tree, name); err == nil && same(e, it) {
			return true
		}
		if name == "." {
			return false
		}
	}
}
