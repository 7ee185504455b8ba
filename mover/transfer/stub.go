package transfer

import (
	"context"
	"errors"
	"io/fs"

	"bridgespan/core/chunk"
	"bridgespan/tree"
)

// StageStub makes a stub of so many bytes in the intake of an endpoint, where it is durable then. Nothing crosses.
func (e *Endpoint) StageStub(ctx context.Context, mark tree.Mark, size int64, o Options) (*Staged, error) {
	name, err := e.stagedName(ctx)
	if err != nil {
		return nil, err
	}
	options := tree.PutOptions{Size: size, SizeKnown: true, Detail: o.Detail, Meta: o.Meta}
	if !e.NamesOwners() {
		options.Meta = tree.Meta{Modified: o.Meta.Modified}
	}
	entry, err := tree.StageStub(ctx, e.Tree, name, mark, options)
	if errors.Is(err, fs.ErrPermission) && e.NamesOwners() {
		e.noteNameless()
		return e.StageStub(ctx, mark, size, o)
	}
	if err == nil && !e.NamesOwners() {
		if err = e.Apply(ctx, name, o.Meta); err == nil {
			entry, err = e.look(ctx, name, o.Detail)
		}
	}
	if err == nil {
		err = o.Limiter.Rest(func() error { return e.Flush(ctx) })
	}
	if err != nil {
		_ = e.Drop(ctx, name)
		return nil, err
	}
	return &Staged{Path: name, Entry: entry, Digest: mark.Digest, to: e, release: func() {}}, nil
}

// markedDigest is the hash of the content of a stub, as its mark tells. It returns [tree.ErrStub] where the mark does not.
func markedDigest(ctx context.Context, t tree.Tree, name string) (chunk.Digest, tree.Entry, error) {
	mark, err := tree.MarkOf(ctx, t, name)
	if err != nil || !mark.Digest.Known() {
		return chunk.Digest{}, tree.Entry{}, tree.PathError("read", name, tree.ErrStub)
	}
	e, err := t.Stat(ctx, name)
	if err == nil && e.Residency != tree.Stub {
		err = tree.ErrChanged
	}
	return mark.Digest, e, err
}
