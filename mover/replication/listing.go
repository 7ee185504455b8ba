package replication

import (
	"context"
	"io"

	"bridgespan/core/chunk"
)

// listing cuts a content that passes by, so that it is known what it is made of. nil
// does nothing.
type listing struct{ chunk.Lister }

// listing is one for a file of so many bytes that a replica has, or is to have: where
// only what lacks of the next version is to be carried, though this one cannot be read
// then but over the lane.
func (e *Engine) listing(r *Replica, size int64) *listing {
	if !r.Tree.Capabilities().Far || !e.mayAssemble(r, size) {
		return nil
	}
	cutter, err := chunk.NewCutter(e.sizes(size))
	if err != nil {
		return nil
	}
	return &listing{*chunk.NewLister(cutter)}
}

// sizes are those by which a file is cut that was not cut before.
func (e *Engine) sizes(size int64) chunk.Sizes {
	if e.average > 0 {
		return chunk.Around(e.average)
	}
	return chunk.For(size)
}

// beside passes content on, and cuts it.
func (l *listing) beside(content io.Reader) io.Reader {
	if l == nil {
		return content
	}
	return io.TeeReader(content, l)
}

// keepList keeps what a content that passed by is made of.
func (e *Engine) keepList(ctx context.Context, l *listing, d chunk.Digest) error {
	if l == nil {
		return nil
	}
	list := l.List()
	list.Digest = d
	return e.keepChunks(ctx, list)
}

func (e *Engine) keepChunks(ctx context.Context, l chunk.List) error {
	if err := e.Store.KeepChunks(ctx, l); err != nil {
		return &storeError{err}
	}
	return nil
}
