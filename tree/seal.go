package tree

import (
	"context"

	"bridgespan/core/acl"
)

// Sealer is a tree that can keep everybody else from a file whose exact path they know,
// where folders above it do not keep them out.
type Sealer interface {
	// Seal lets nobody at a file but us and those who administer the place, and returns the
	// permissions that it had, as the place keeps them; none when it was sealed before.
	Seal(ctx context.Context, name string) (had acl.Descriptor, err error)
}

// Seal seals a file as a [Sealer] does.
func Seal(ctx context.Context, t Tree, name string) (had acl.Descriptor, err error) {
	if s, ok := t.(Sealer); ok {
		return s.Seal(ctx, name)
	}
	return had, PathError("seal", name, ErrUnsupported)
}
