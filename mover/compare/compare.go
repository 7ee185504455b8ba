// Package compare is the one way in which Bridge Span compares trees.
//
// A [Walk] goes through two trees side by side and yields what each has at every path. A
// [Comparison] finds on top of it how they differ: by names, sizes, times and permissions, and
// by contents of all files or of a random sample. What cannot be read is a difference of its
// own and never the end; only a server that does not answer ends a comparison, which then
// resumes where it was. Differences are explained by the caller in batches, before they are
// counted and passed on.
package compare

import (
	"context"
	"errors"
	"io/fs"

	"bridgespan/core/account"
	"bridgespan/tree"
	"bridgespan/tree/translate"
)

// Side is one of two trees that are compared.
type Side struct {
	Name string    // names it in differences and errors
	Tree tree.Tree // nil stands for an empty one
	Top  string    // where the comparison begins; "" for the root
	// Keep reports whether an entry is compared; nil keeps all. It is called once for each
	// entry, in the order of the walk, by one goroutine for each side.
	Keep func(tree.Named) bool
}

// InAccounts is a tree in which accounts are those of another place. pairs has both
// directions, as [account.Swap] wants them.
func InAccounts(t tree.Tree, pairs map[account.SID]account.SID) tree.Tree {
	if len(pairs) == 0 {
		return t
	}
	return translate.New(t, account.Swap(pairs))
}

// SideError is an error of one of the two sides.
type SideError struct {
	Side int // 0 or 1
	Name string
	Err  error
}

func (e *SideError) Error() string { return e.Name + ": " + e.Err.Error() }
func (e *SideError) Unwrap() error { return e.Err }

// Unreadable says in a few words why something cannot be read.
func Unreadable(err error) string {
	switch {
	case errors.Is(err, fs.ErrPermission):
		return "access denied for the account that Bridge Span uses there"
	case errors.Is(err, tree.ErrInUse):
		return "in use by another program"
	}
	for errors.Unwrap(err) != nil {
		err = errors.Unwrap(err)
	}
	return err.Error()
}

// at returns the entry at a path of a side with its descriptor; nil when nothing is there.
func (s *Side) at(ctx context.Context, name string, detail tree.Detail) (*tree.Named, error) {
	full := s.path(name)
	entry, err := s.Tree.Stat(ctx, full)
	if err == nil && detail == tree.WithDescriptors {
		entry.Descriptor, err = s.Tree.Descriptor(ctx, full)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return &tree.Named{Path: name, Entry: entry}, err
}
