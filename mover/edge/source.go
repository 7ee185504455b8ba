package edge

import (
	"context"
	"errors"
	"io/fs"
	"sync"

	"bridgespan/tree"
)

// source is the tree that has the contents. Those who need it wait until there is one.
type source struct {
	mu    sync.Mutex
	tree  tree.Tree
	there chan struct{} // closed when there is a tree; nil until somebody waits
}

func (s *source) use(from tree.Tree) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.tree = from; from != nil && s.there != nil {
		close(s.there)
		s.there = nil
	}
}

// get is the tree, as soon as there is one.
func (s *source) get(ctx context.Context) (tree.Tree, error) {
	for {
		s.mu.Lock()
		from := s.tree
		if from == nil && s.there == nil {
			s.there = make(chan struct{})
		}
		there := s.there
		s.mu.Unlock()
		if from != nil {
			return from, nil
		}
		select {
		case <-there:
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		}
	}
}

// versioned is a tree that reads one version of a file without looking for it first.
type versioned interface {
	OpenVersion(ctx context.Context, name string, entry tree.Entry) tree.Content
}

// Content opens the content that a mark speaks of, for a stub that has some name and length. Unless it is to be sought,
// the object is taken to be where it was, which its first bytes then tell. What is sought is the version of the mark; a service
// may give a copy another version, as when the object was renamed: then length and time tell.
func Content(ctx context.Context, from tree.Tree, name string, mark tree.Mark, size int64, sought bool) (tree.Content, error) {
	if v, ok := from.(versioned); ok && mark.Version != "" && mark.Path != "" && !sought {
		return v.OpenVersion(ctx, mark.Path, mark.Object(size)), nil
	}
	var copied string
	var copiedEntry tree.Entry
	for _, at := range []string{mark.Path, name} {
		if at == "" {
			continue
		}
		entry, err := from.Stat(ctx, at)
		switch {
		case absent(err), err == nil && (entry.Kind != tree.File || entry.Size != size):
			continue
		case err != nil:
			return nil, err
		case mark.Version != "" && entry.Version == mark.Version:
			return openObject(ctx, from, at, entry)
		case entry.Modified.Equal(mark.Modified):
			copied, copiedEntry = at, entry
		}
	}
	if copied == "" {
		return nil, stale(mark)
	}
	return openObject(ctx, from, copied, copiedEntry)
}

// openObject opens an object that was found.
func openObject(ctx context.Context, from tree.Tree, name string, entry tree.Entry) (tree.Content, error) {
	if v, ok := from.(versioned); ok && entry.Version != "" {
		return v.OpenVersion(ctx, name, entry), nil
	}
	return from.Open(ctx, name)
}

func absent(err error) bool { return errors.Is(err, fs.ErrNotExist) || errors.Is(err, tree.ErrKind) }

// moved reports whether an error says that an object is not where it was, or is another one.
func moved(err error) bool { return absent(err) || errors.Is(err, tree.ErrVersion) }
