package transfer

import (
	"context"
	"io"

	"bridgespan/core/chunk"
)

// Lister cuts a content that passes by into chunks, so that the journal knows what it is made
// of. nil does nothing.
type Lister struct{ chunk.Lister }

// NewLister makes one for a file of so many bytes that the endpoint has, or is to have: where
// only the changes of the next version are to cross, though this one cannot be read then
// without crossing. Elsewhere it is nil.
func (e *Endpoint) NewLister(size int64) *Lister {
	if e.Journal == nil || !e.Tree.Capabilities().Far || !e.assembles(size) {
		return nil
	}
	cutter, err := chunk.NewCutter(e.Settings.sizes(size))
	if err != nil {
		return nil
	}
	return &Lister{*chunk.NewLister(cutter)}
}

// Beside passes content on, and cuts it.
func (l *Lister) Beside(content io.Reader) io.Reader {
	if l == nil {
		return content
	}
	return io.TeeReader(content, l)
}

// KeepList keeps in the journal what a content that passed by is made of.
func (e *Endpoint) KeepList(ctx context.Context, l *Lister, d chunk.Digest) error {
	if l == nil {
		return nil
	}
	list := l.List()
	if len(list.Chunks) == 0 { // a mark told the hash, and nothing was read
		return nil
	}
	list.Digest = d
	return e.keepChunks(ctx, list)
}

func (e *Endpoint) keepChunks(ctx context.Context, l chunk.List) error {
	if e.Journal == nil {
		return nil
	}
	return e.Journal.KeepChunks(ctx, l)
}
