package transfer

import (
	"context"
	"errors"
	"io"

	"bridgespan/core/chunk"
	"bridgespan/guard"
	"bridgespan/tree"
)

// deltaFrom is from how many bytes on it pays to look for what the endpoint holds already: for
// less, the whole file is on its way sooner.
const deltaFrom = 1 << 20

// delta stages a file of what the endpoint has in its older version, and of what it lacks: that
// alone crosses. It returns tree.ErrUnsupported when there is nothing to be gained, or the
// endpoint cannot.
func (t *task) delta(ctx context.Context, content tree.Content, options tree.PutOptions) (tree.Entry, error) {
	size := t.file.Entry.Size
	if t.Older == nil || size < t.to.Settings.least(deltaFrom) || !t.to.assembles(t.Older.Entry.Size) {
		return tree.Entry{}, tree.ErrUnsupported
	}
	old, err := t.older(ctx)
	if err != nil {
		return tree.Entry{}, err
	}
	defer old.Close()
	if ok, err := t.worthReading(ctx); err != nil || !ok {
		return tree.Entry{}, orUnsupported(err)
	}
	d, list, err := compare(ctx, old, content)
	switch {
	case err != nil:
		return tree.Entry{}, err
	case d.Lacks > size*9/10: // it is another file
		return tree.Entry{}, tree.ErrUnsupported
	case d.Size != size, t.file.Digest.Known() && d.Digest != t.file.Digest:
		return tree.Entry{}, tree.ErrChanged
	}
	entry, err := tree.Assemble(ctx, t.to.Tree, t.staged, t.Older.Path, d.Parts, &pacedReaderAt{ctx, t, content}, options)
	if err == nil {
		err = t.assembled(ctx, old, content, d, list)
	}
	switch {
	case errors.Is(err, tree.ErrUnreachable):
		t.to.leave(t.staged + tree.Beside)
	case err == nil && t.to.Tree.Capabilities().Far:
		err = t.to.keepChunks(ctx, list)
	}
	t.digest = d.Digest
	return entry, err
}

// assembles reports whether the endpoint makes another file of parts of one of so many bytes,
// and it is worth while.
func (e *Endpoint) assembles(size int64) bool {
	return e.Tree.Capabilities().Ranges && size >= e.Settings.least(deltaFrom)
}

// assembled returns an error unless what was staged is what the source has, which was read
// twice and may have changed between.
func (t *task) assembled(ctx context.Context, old older, content tree.Content, d chunk.Delta, list chunk.List) error {
	err := still(ctx, t.from.Tree, t.file.Path, content)
	if err == nil {
		err = old.proof(ctx, d, list)
	}
	if err != nil {
		return errors.Join(err, t.to.Drop(ctx, t.staged))
	}
	t.saved = d.Size - d.Lacks
	return nil
}

// compare finds out what of a file another one holds. Both are cut at the same time.
func compare(ctx context.Context, base older, content tree.Content) (d chunk.Delta, next chunk.List, err error) {
	sizes := base.sizes(content.Entry().Size)
	var old chunk.List
	group, gctx := guard.WithContext(ctx)
	group.Go(func() (err error) {
		old, err = base.list(gctx, sizes)
		return err
	})
	group.Go(func() (err error) {
		next, err = tree.Chunks(gctx, content, sizes)
		return err
	})
	if err = group.Wait(); err == nil {
		d = chunk.Compare(old, next)
	}
	return d, next, err
}

// pacedReaderAt reads as fast as may cross.
type pacedReaderAt struct {
	ctx     context.Context
	task    *task
	content io.ReaderAt
}

func (p *pacedReaderAt) ReadAt(buffer []byte, at int64) (int, error) {
	n, err := p.content.ReadAt(buffer, at)
	if n > 0 {
		if bad := p.task.cross(p.ctx, n); bad != nil {
			return n, bad
		}
	}
	return n, err
}
