package transfer

import (
	"context"
	"errors"
	"io/fs"
	"sync"
	"time"

	"bridgespan/tree"
)

// IntakeFolder is where an endpoint gathers files on their way in.
const IntakeFolder = ".bspan/intake"

// Endpoint is a tree that files are copied from or to, with what is known of it. One stands
// for a tree, whatever is copied at a time; no other process may copy into the same tree
// meanwhile.
type Endpoint struct {
	Tree     tree.Tree
	Settings Settings
	// Journal keeps what a later transfer can use; nil keeps nothing.
	Journal Journal
	// Quota is how many bytes may be on their way in at a time, but for a file that is larger
	// by itself; 0 for no bound.
	Quota int64
	// Now is the time; nil is [time.Now].
	Now func() time.Time
	// Unique makes a name that was never used; nil makes random ones.
	Unique func() string

	partials partials
	flushes  flushes
	quota    quota
	staging  stagingDirs

	mu       sync.Mutex // of what follows
	nameless bool       // it does not let us name all owners
	swept    bool
	left     []string // what could not be removed from the intake
	answers  answers
	// relaysUntil is when its host is asked again to upload files.
	relaysUntil time.Time
}

func (e *Endpoint) now() time.Time {
	if e.Now != nil {
		return e.Now()
	}
	return time.Now()
}

func (e *Endpoint) unique() string {
	if e.Unique != nil {
		return e.Unique()
	}
	return uniqueName()
}

// NamesOwners reports whether the endpoint lets us name owners, as far as is known.
func (e *Endpoint) NamesOwners() bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return !e.nameless
}

func (e *Endpoint) noteNameless() {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.nameless = true
}

// Apply sets what goes with a file or folder. An owner whom the endpoint does not let us
// name is left as it is there; the permissions are the same all the same.
func (e *Endpoint) Apply(ctx context.Context, name string, meta tree.Meta) error {
	err := e.Tree.Apply(ctx, name, meta)
	if !errors.Is(err, fs.ErrPermission) || meta.Descriptor.IsZero() {
		return err
	}
	there, bad := e.Tree.Descriptor(ctx, name)
	if bad != nil {
		return err
	}
	parts, own := meta.Descriptor.Parts(), there.Parts()
	parts.Owner, parts.Group = own.Owner, own.Group
	if meta.Descriptor, bad = parts.Descriptor(); bad != nil {
		return err
	}
	return e.Tree.Apply(ctx, name, meta)
}

// look returns what is at a path, with its descriptor where that is asked for and kept.
func (e *Endpoint) look(ctx context.Context, name string, detail tree.Detail) (tree.Entry, error) {
	entry, err := e.Tree.Stat(ctx, name)
	if err == nil && detail == tree.WithDescriptors && e.Tree.Capabilities().Descriptors {
		entry.Descriptor, err = e.Tree.Descriptor(ctx, name)
	}
	return entry, err
}

// holds reports whether a file is as it was seen before.
func (e *Endpoint) holds(ctx context.Context, name string, seen tree.Entry) (bool, error) {
	entry, err := e.Tree.Stat(ctx, name)
	if absent(err) {
		return false, nil
	}
	return err == nil && same(seen, entry), err
}

// same reports whether an entry is the file that was seen, by its number, size and time.
func same(seen, now tree.Entry) bool {
	return now.Kind == tree.File && now.Size == seen.Size && now.Modified.Equal(seen.Modified) && (seen.ID == 0 || now.ID == 0 || seen.ID == now.ID)
}

func absent(err error) bool {
	return errors.Is(err, fs.ErrNotExist) || errors.Is(err, tree.ErrKind)
}
