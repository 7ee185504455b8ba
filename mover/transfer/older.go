package transfer

import (
	"context"
	"io"

	"bridgespan/core/chunk"
	"bridgespan/guard"
	"bridgespan/tree"
)

// older is the older version that the endpoint has of a file. That it is as it was is checked
// by who places the new one.
type older interface {
	// sizes are those by which both are cut; size is how long the new version is.
	sizes(size int64) chunk.Sizes
	list(ctx context.Context, sizes chunk.Sizes) (chunk.List, error)
	// proof returns an error when what was staged of its parts is not what it should be.
	proof(ctx context.Context, d chunk.Delta, list chunk.List) error
	Close() error
}

// older opens the older version. Where it would have to cross to be read, what it is made of
// must be in the journal since it was copied; else older returns tree.ErrUnsupported.
func (t *task) older(ctx context.Context) (older, error) {
	if !t.to.Tree.Capabilities().Far {
		base, err := t.to.Tree.Open(ctx, t.Older.Path)
		if err != nil {
			return nil, err
		}
		if !same(t.Older.Entry, base.Entry()) {
			base.Close()
			return nil, ErrOlderChanged
		}
		return &nearOlder{t, base}, nil
	}
	if !t.Older.Digest.Known() || t.to.Journal == nil {
		return nil, tree.ErrUnsupported
	}
	made, err := t.to.Journal.Chunks(ctx, t.Older.Digest)
	switch {
	case err != nil:
		return nil, err
	case len(made.Chunks) == 0:
		return nil, tree.ErrUnsupported
	}
	return &farOlder{t, made}, nil
}

// nearOlder is an older version that is read where it lies.
type nearOlder struct {
	t    *task
	base tree.Content
}

func (n *nearOlder) sizes(size int64) chunk.Sizes { return n.t.to.Settings.sizes(size) }

func (n *nearOlder) list(ctx context.Context, sizes chunk.Sizes) (chunk.List, error) {
	return tree.Chunks(ctx, n.base, sizes)
}

// proof reads what was staged: that costs little there.
func (n *nearOlder) proof(ctx context.Context, d chunk.Delta, _ chunk.List) error {
	made, _, err := Digest(ctx, n.t.to.Tree, n.t.staged, nil)
	if err == nil && made != d.Digest {
		err = tree.ErrChanged
	}
	return err
}

func (n *nearOlder) Close() error { return n.base.Close() }

// farOlder is an older version of which the journal says what it is made of.
type farOlder struct {
	t    *task
	made chunk.List
}

func (f *farOlder) sizes(int64) chunk.Sizes { return f.made.Sizes }

func (f *farOlder) list(context.Context, chunk.Sizes) (chunk.List, error) { return f.made, nil }

// proofs is how many chunks are read of what was staged far away.
const proofs = 4

// proof reads a few of the chunks that the endpoint itself has put in, from the first to the
// last. When one is another, somebody has changed the older version and not its time: proof
// returns tree.ErrUnsupported, so that all of the file crosses.
func (f *farOlder) proof(ctx context.Context, d chunk.Delta, list chunk.List) error {
	content, err := f.t.to.Tree.Open(ctx, f.t.staged)
	if err != nil {
		return err
	}
	defer content.Close()
	group, gctx := guard.WithContext(ctx)
	for _, p := range sampled(reused(d, list), proofs) {
		group.Go(func() error {
			data := make([]byte, p.Length)
			if err := f.t.cross(gctx, len(data)); err != nil {
				return err
			}
			if _, err := io.ReadFull(io.NewSectionReader(content, p.at, int64(len(data))), data); err != nil {
				return err
			}
			if chunk.Of(data) != p.Fingerprint {
				return tree.ErrUnsupported
			}
			return nil
		})
	}
	return group.Wait()
}

func (f *farOlder) Close() error { return nil }

// positioned is a chunk at an offset.
type positioned struct {
	chunk.Chunk
	at int64
}

// reused are the chunks of a list that come from the older version, in order.
func reused(d chunk.Delta, list chunk.List) (chunks []positioned) {
	at, parts := int64(0), d.Parts
	for _, c := range list.Chunks {
		for len(parts) > 0 && parts[0].At+parts[0].Length <= at {
			parts = parts[1:]
		}
		if len(parts) > 0 && parts[0].From >= 0 {
			chunks = append(chunks, positioned{c, at})
		}
		at += int64(c.Length)
	}
	return chunks
}

// sampled are at most n of all, evenly spread, the first and the last among them.
func sampled[T any](all []T, n int) []T {
	if len(all) <= n {
		return all
	}
	few := make([]T, n)
	for i := range few {
		few[i] = all[i*(len(all)-1)/(n-1)]
	}
	return few
}
