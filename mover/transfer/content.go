package transfer

import (
	"context"
	"io"

	"bridgespan/core/chunk"
	"bridgespan/tree"
)

// copy stages all of a file, or what has not arrived of it yet.
func (t *task) copy(ctx context.Context, content tree.Content, options tree.PutOptions) (entry tree.Entry, err error) {
	in := t.incoming(ctx, content, t.arrived.Bytes)
	defer in.close()
	options.ReadBack = true // from far away it crosses the other way, where other limits hold
	if t.arrived.Bytes > 0 {
		if err := t.reach(ctx, in, content); err != nil {
			return entry, err
		}
	}
	if t.arrived.Bytes > 0 || t.Key != "" && !t.listed && t.to.grows(t.file.Entry.Size) {
		entry, err = t.grow(ctx, in, options)
	} else {
		entry, err = tree.Stage(ctx, t.to.Tree, t.staged, in, options)
	}
	if err == nil {
		err = t.to.KeepList(ctx, in.lister, t.digest)
	}
	return entry, err
}

// incoming is the content of a file on its way, as fast as it may cross. It ends with
// tree.ErrChanged when it is not what the caller knows.
type incoming struct {
	io.Reader
	content *checked
	lister  *Lister
	close   func()
}

// incoming passes content on; the first bytes of it, which the endpoint has, do not cross.
// The caller must close it.
func (t *task) incoming(ctx context.Context, content tree.Content, has int64) *incoming {
	var source io.Reader = io.NewSectionReader(content, 0, content.Entry().Size)
	closeSource := func() {}
	if t.file.Entry.Size > SmallFile {
		ahead := tree.Stream(ctx, content, 0)
		source, closeSource = ahead, func() { ahead.Close() }
	}
	crossing := t.paced(ctx, source)
	if has > 0 {
		crossing = io.MultiReader(io.LimitReader(source, has), crossing)
	}
	hash := newHash()
	in := &incoming{
		content: &checked{crossing, hash, t.checkEnd(ctx, content)},
		lister:  t.to.NewLister(t.file.Entry.Size),
		close:   func() { closeSource(); hashes.Put(hash) },
	}
	in.Reader = in.lister.Beside(in.content)
	return in
}

// checkEnd returns what is called with the digest of all that was read.
func (t *task) checkEnd(ctx context.Context, content tree.Content) func(chunk.Digest) error {
	return func(d chunk.Digest) error {
		if t.file.Digest.Known() && d != t.file.Digest {
			return tree.ErrChanged
		}
		t.digest = d
		if t.listed {
			return nil
		}
		return still(ctx, t.from.Tree, t.file.Path, content)
	}
}
