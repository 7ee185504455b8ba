package tree

import "context"

// Sealer is a tree in which the exact path of a file is enough to open it, also where the
// folders above it are closed to the person, and that can close the file itself.
type Sealer interface {
	// Seal denies access to a file to everybody but the connecting account and the server's
	// administrators.
	Seal(ctx context.Context, name string) error
}

// Seal seals a file as a [Sealer] does; where a tree is none, it returns an error wrapping
// ErrUnsupported.
func Seal(ctx context.Context, t Tree, name string) error {
	if s, ok := t.(Sealer); ok {
		return s.Seal(ctx, name)
	}
	return PathError("seal", name, ErrUnsupported)
}
