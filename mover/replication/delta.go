package replication

import (
	"context"
	"errors"
	"io"

	"bridgespan/core/chunk"
	"bridgespan/core/replica"
	"bridgespan/guard"
	"bridgespan/tree"
)

// deltaFrom is from how many bytes on it pays to look for what the receiver holds
// already: for less, the whole file is on its way sooner.
const deltaFrom = 1 << 20

// delta stages a file of what the receiver has under its name already, and of
// what it lacks: that alone crosses the lane. It returns tree.ErrUnsupported
// when there is nothing to be gained, or the receiver cannot.
func (m *move) delta(ctx context.Context, staged string, next *replica.Record, content tree.Content, options tree.PutOptions) (tree.Entry, error) {
	if m.to.Kind != replica.File || next.Size < m.leastSize(deltaFrom) || !m.mayAssemble(m.carry.to, m.to.Size) {
		return tree.Entry{}, tree.ErrUnsupported
	}
	old, err := m.older(ctx)
	if err != nil {
		return tree.Entry{}, err
	}
	defer old.Close()
	if ok, err := m.worthCutting(ctx); err != nil || !ok {
		return tree.Entry{}, orUnsupported(err)
	}
	d, list, err := compare(ctx, old, content)
	switch {
	case err != nil:
		return tree.Entry{}, err
	case d.Lacks > next.Size*9/10: // it is another file
		return tree.Entry{}, tree.ErrUnsupported
	case d.Size != next.Size, m.from.Digest.Known() && d.Digest != m.from.Digest:
		return tree.Entry{}, errMoved
	}
	entry, err := tree.Assemble(ctx, m.carry.to.Tree, staged, m.here, d.Parts, &pacedReaderAt{ctx, m.carry, content}, options)
	if err == nil {
		err = m.assembled(ctx, staged, old, content, d, list)
	}
	switch {
	case errors.Is(err, tree.ErrUnreachable):
		m.leaveFor(m.carry.to, staged+tree.Beside)
	case err == nil && m.carry.to.Tree.Capabilities().Far:
		err = m.keepChunks(ctx, list)
	}
	next.Digest = d.Digest
	return entry, err
}

// mayAssemble reports whether of a file of so many bytes a replica makes another one,
// and it is worth while.
func (e *Engine) mayAssemble(r *Replica, size int64) bool {
	return r.Tree.Capabilities().Ranges && size >= e.leastSize(deltaFrom)
}

// room is how much a file may take in the intake on its way: where it is made of parts
// of another one, some of these may be there a second time.
func (m *move) room(next *replica.Record) int64 {
	if r := m.carry.to; m.to.Kind == replica.File && m.mayAssemble(r, m.to.Size) {
		return next.Size + r.Tree.Capabilities().Beside
	}
	return next.Size
}

// assembled returns an error unless what was staged is what the sender has, which was
// read twice and may have changed between.
func (m *move) assembled(ctx context.Context, staged string, old older, content tree.Content, d chunk.Delta, list chunk.List) error {
	err := still(ctx, m.carry.from.Tree, m.there, content)
	if err == nil {
		err = old.proof(ctx, staged, d, list)
	}
	if err != nil {
		return errors.Join(err, m.drop(ctx, m.carry.to, staged))
	}
	m.spared = d.Size - d.Lacks
	return nil
}

// compare finds out what of a file another one holds. Both are cut at the same time.
func compare(ctx context.Context, base older, content tree.Content) (d chunk.Delta, next chunk.List, err error) {
	sizes := base.sizes(content.Entry().Size)
	var old chunk.List
	group, run := guard.WithContext(ctx)
	group.Go(func() (err error) {
		old, err = base.list(run, sizes)
		return err
	})
	group.Go(func() (err error) {
		next, err = tree.Chunks(run, content, sizes)
		return err
	})
	if err = group.Wait(); err == nil {
		d = chunk.Compare(old, next)
	}
	return d, next, err
}

// pacedReaderAt reads as fast as the lane may carry.
type pacedReaderAt struct {
	ctx     context.Context
	carry   *carry
	content io.ReaderAt
}

func (p *pacedReaderAt) ReadAt(buffer []byte, at int64) (int, error) {
	n, err := p.content.ReadAt(buffer, at)
	if n > 0 {
		if bad := p.carry.cross(p.ctx, n); bad != nil {
			return n, bad
		}
	}
	return n, err
}
