package tree

import "context"

// Protector is a tree that can keep everybody else out of a folder.
type Protector interface {
	// Protect lets nobody into a folder but us and those who administer the place: they
	// can neither list it, nor make, read, change or remove anything right in it, unless
	// that has permissions of its own. What is made in the folder from then on inherits
	// that. Where it is so already, nothing is changed.
	Protect(ctx context.Context, folder string) error
}

// Protect keeps everybody else out of a folder; where a tree is no [Protector], it returns
// an error wrapping ErrUnsupported.
func Protect(ctx context.Context, t Tree, folder string) error {
	p, ok := t.(Protector)
	if !ok {
		return PathError("protect", folder, ErrUnsupported)
	}
	return p.Protect(ctx, folder)
}
