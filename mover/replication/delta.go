package replication

import (
	"context"
	"errors"
	"io"

	"golang.org/x/sync/errgroup"

	"bridgespan/core/chunk"
	"bridgespan/core/replica"
	"bridgespan/tree"
)

// deltaFrom is from how many bytes on it pays to look for what the receiver holds
// already: for less, the whole file is on its way sooner.
const deltaFrom = 1 << 20

// delta stages a file of what the receiver has under its name already, and of
// what it lacks: that alone crosses the lane. It returns tree.ErrUnsupported
// when there is nothing to be gained, or the receiver cannot.
func (m *move) delta(ctx context.Context, staged string, next *replica.Record, content tree.Content, options tree.PutOptions) (tree.Entry, error) {
	a, ok := m.carry.to.Tree.(tree.Assembler)
	if !ok || !m.carry.to.Tree.Capabilities().Ranges || m.to.Kind != replica.File || min(next.Size, m.to.Size) < m.leastSize(deltaFrom) {
		return tree.Entry{}, tree.ErrUnsupported
	}
	base, err := m.carry.to.Tree.Open(ctx, m.here)
	if err != nil {
		return tree.Entry{}, err
	}
	defer base.Close()
	if !asKept(&m.to, base.Entry()) {
		return tree.Entry{}, m.changed(ctx, m.carry.to, m.here, m.to)
	}
	d, err := compare(ctx, base, content)
	switch {
	case err != nil:
		return tree.Entry{}, err
	case d.Lacks > next.Size*9/10: // it is another file
		return tree.Entry{}, tree.ErrUnsupported
	case d.Size != next.Size, m.from.Digest.Known() && d.Digest != m.from.Digest:
		return tree.Entry{}, errMoved
	}
	next.Digest = d.Digest
	entry, err := a.Assemble(ctx, staged, m.here, d.Parts, &pacedReaderAt{ctx, m.carry, content}, options)
	if err == nil {
		err = m.assembled(ctx, staged, base, content, d)
	}
	return entry, err
}

// assembled returns errMoved unless what was staged is what the sender has: both
// files were read twice, and may have changed between.
func (m *move) assembled(ctx context.Context, staged string, base, content tree.Content, d chunk.Delta) error {
	if err := still(ctx, m.carry.from.Tree, m.there, content); err != nil {
		return err
	}
	if err := still(ctx, m.carry.to.Tree, m.here, base); err != nil {
		return err
	}
	made, _, err := digest(ctx, m.carry.to.Tree, staged)
	if err == nil && made != d.Digest {
		err = errMoved
	}
	if err != nil {
		return errors.Join(err, m.drop(ctx, m.carry.to, staged))
	}
	m.count(func(c *Carried) { c.Spared += d.Size - d.Lacks })
	return nil
}

// compare finds out what of a file another one holds. Each is cut where it lies,
// if that is possible, and both at the same time.
func compare(ctx context.Context, base, content tree.Content) (chunk.Delta, error) {
	sizes := chunk.For(content.Entry().Size)
	var old, next chunk.List
	group, run := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		old, err = tree.Chunks(run, base, sizes)
		return err
	})
	group.Go(func() (err error) {
		next, err = tree.Chunks(run, content, sizes)
		return err
	})
	err := group.Wait()
	return chunk.Compare(old, next), err
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
