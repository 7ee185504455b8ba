package tree

import (
	"cmp"
	"context"
	"errors"
	"time"

	"bridgespan/core/chunk"
)

// Mark says of a stub what its content is, and which object holds it.
type Mark struct {
	// Path is where the object was when the stub was made, within the tree that holds contents.
	Path string `json:"path"`
	// Version and Modified are those of the object; Version is "" where the tree tells none.
	Version  string    `json:"version,omitempty"`
	Modified time.Time `json:"modified,omitzero"`
	// Stored is the length of the object where it is not that of the content, since the content is sealed.
	Stored int64 `json:"stored,omitempty"`
	// Digest is the hash of the content, or zero when nobody has read it yet.
	Digest chunk.Digest `json:"digest,omitzero"`
}

// NewMark is the mark of a stub whose content is in an object at a path.
func NewMark(path string, object Entry, digest chunk.Digest) Mark {
	m := Mark{Path: path, Version: object.Version, Modified: object.Modified, Digest: digest}
	if object.Allocated != object.Size {
		m.Stored = object.Allocated
	}
	return m
}

// Object describes the object of a mark; size is the length of the stub.
func (m Mark) Object(size int64) Entry {
	return Entry{Name: m.Path, Size: size, Allocated: cmp.Or(m.Stored, size), Version: m.Version, Modified: m.Modified}
}

// ErrNoContent: the content of a stub is not where its mark says. The object was replaced or removed.
var ErrNoContent = errors.New("the bucket no longer has the content of this stub")

// Stubs is a tree that can hold stubs. [Capabilities].Stubs tells whether it can now.
type Stubs interface {
	// StageStub stages a file without its content, as a [Stager] does: options tell its size.
	StageStub(ctx context.Context, name string, mark Mark, options PutOptions) (Entry, error)
	// Offload makes a stub of a file that is as expected tells, and frees its blocks. Everything
	// else of the file stays. It returns an error wrapping ErrVersion when the file is another one
	// by now, and ErrInUse when a program has it open. The caller must know that the content is where
	// mark says.
	Offload(ctx context.Context, name string, expected Entry, mark Mark) (Entry, error)
	// Fetch fills a stub. A file that is none is left as it is. It returns an error wrapping
	// ErrNoContent when the content is not there any more.
	Fetch(ctx context.Context, name string) error
	// FetchPart fills n bytes of a stub at an offset, and some after them, as Fetch does. The file is whole when all parts are
	// filled.
	FetchPart(ctx context.Context, name string, at, n int64) error
	// Mark tells the mark of a stub. It returns an error wrapping ErrUnsupported of a file that is
	// none, and of a stub that was changed since: its content is not what the mark says.
	Mark(ctx context.Context, name string) (Mark, error)
}

// StageStub stages a file without its content as a tree with [Stubs] does.
func StageStub(ctx context.Context, t Tree, name string, mark Mark, options PutOptions) (Entry, error) {
	if s, ok := t.(Stubs); ok {
		return s.StageStub(ctx, name, mark, options)
	}
	return Entry{}, PathError("stage", name, ErrUnsupported)
}

// Offload makes a stub of a file as a tree with [Stubs] does.
func Offload(ctx context.Context, t Tree, name string, expected Entry, mark Mark) (Entry, error) {
	if s, ok := t.(Stubs); ok {
		return s.Offload(ctx, name, expected, mark)
	}
	return Entry{}, PathError("offload", name, ErrUnsupported)
}

// Fetch fills a stub as a tree with [Stubs] does. Elsewhere every file is whole.
func Fetch(ctx context.Context, t Tree, name string) error {
	if s, ok := t.(Stubs); ok {
		return s.Fetch(ctx, name)
	}
	return nil
}

// FetchPart fills a part of a stub as a tree with [Stubs] does. Elsewhere every file is whole.
func FetchPart(ctx context.Context, t Tree, name string, at, n int64) error {
	if s, ok := t.(Stubs); ok {
		return s.FetchPart(ctx, name, at, n)
	}
	return nil
}

// FetchParts fills a stub of a size part by part, from its beginning to its end. Before each part it calls next with the part's
// length, and ends with the error that next returns.
func FetchParts(ctx context.Context, t Tree, name string, size, each int64, next func(n int64) error) error {
	for at := int64(0); at < size; at += each {
		n := min(each, size-at)
		if err := next(n); err != nil {
			return err
		}
		if err := FetchPart(ctx, t, name, at, n); err != nil {
			return err
		}
	}
	return nil
}

// MarkOf tells the mark of a stub as a tree with [Stubs] does.
func MarkOf(ctx context.Context, t Tree, name string) (Mark, error) {
	if s, ok := t.(Stubs); ok {
		return s.Mark(ctx, name)
	}
	return Mark{}, PathError("mark", name, ErrUnsupported)
}
