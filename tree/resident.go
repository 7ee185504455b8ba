package tree

import "context"

// Resident is a tree that opens no stub: Open and OpenExpected fail with ErrStub instead, so
// that who reads many files never fetches their contents by accident.
func Resident(t Tree) Tree {
	r := &resident{below: t}
	r.Use = func(_ context.Context, _ bool, do func(Tree) error) error { return do(t) }
	return r
}

type resident struct {
	Forwarder
	below Tree
}

func (r *resident) Capabilities() Capabilities { return r.below.Capabilities() }
func (r *resident) Close() error               { return r.below.Close() }

func (r *resident) Open(ctx context.Context, name string) (Content, error) {
	return refuseStub(name)(r.below.Open(ctx, name))
}

// OpenExpected relies on what is expected: a file that became a stub since is opened.
func (r *resident) OpenExpected(ctx context.Context, name string, expected Entry) (Content, error) {
	if expected.Residency == Stub {
		return nil, PathError("open", name, ErrStub)
	}
	return refuseStub(name)(OpenExpected(ctx, r.below, name, expected))
}

func refuseStub(name string) func(Content, error) (Content, error) {
	return func(content Content, err error) (Content, error) {
		if err != nil || content.Entry().Residency != Stub {
			return content, err
		}
		content.Close()
		return nil, PathError("open", name, ErrStub)
	}
}
