package replication

import (
	"context"
	"io"

	"bridgespan/core/chunk"
	"bridgespan/core/replica"
	"bridgespan/tree"
)

// duplicateFrom is how large a file is, in bytes, of which the receiver is looked
// for another copy.
const duplicateFrom = 64 << 10

// duplicate stages a file as a copy of one that the receiver holds under another
// name: people copied it, and nothing but its name has to cross the lane. It
// returns tree.ErrUnsupported when there is none, or the receiver cannot.
func (m *move) duplicate(ctx context.Context, staged string, next *replica.Record, content tree.Content, options tree.PutOptions) (tree.Entry, error) {
	r := m.carry.to
	if next.Size < m.leastSize(duplicateFrom) {
		return tree.Entry{}, tree.ErrUnsupported
	}
	alike, err := m.Store.Alike(ctx, r.ID, next.Size, next.Modified)
	if err != nil || len(alike) == 0 {
		return tree.Entry{}, orUnsupported(err)
	}
	d := m.from.Digest
	if !d.Known() { // a copy keeps its time: it is one, most likely, and worth reading
		if d, err = m.digestAtSender(ctx, content); err != nil {
			return tree.Entry{}, err
		}
	}
	for _, other := range alike {
		if other.Key == m.to.Key || other.Digest != d || other.Pending != nil {
			continue
		}
		entry, ok, err := m.copyOf(ctx, &other, staged, options)
		if err != nil {
			return tree.Entry{}, err
		}
		if ok {
			next.Digest = d
			m.spared = next.Size
			return entry, nil
		}
	}
	return tree.Entry{}, tree.ErrUnsupported
}

func orUnsupported(err error) error {
	if err == nil {
		return tree.ErrUnsupported
	}
	return err
}

// leastSize is from how many bytes on something is tried that spares the lane.
func (e *Engine) leastSize(usual int64) int64 {
	if e.DeltaFrom > 0 {
		return e.DeltaFrom
	}
	return usual
}

// digestAtSender hashes what is sent.
func (m *move) digestAtSender(ctx context.Context, content tree.Content) (chunk.Digest, error) {
	d, err := tree.Sum(ctx, content, tree.BLAKE3, func(r io.Reader) io.Reader { return m.paced(ctx, r) })
	if err == nil {
		err = still(ctx, m.carry.from.Tree, m.there, content)
	}
	return d, err
}

// copyOf stages a copy of a file of the receiver. ok is false when it is not what
// its record says, before or afterwards, or cannot be copied: then the content
// comes over the lane as ever.
func (m *move) copyOf(ctx context.Context, other *replica.Record, staged string, options tree.PutOptions) (entry tree.Entry, ok bool, err error) {
	r := m.carry.to
	name, err := m.pathOf(ctx, r, other, other)
	if err != nil {
		return entry, false, err
	}
	if ok, err := unchanged(ctx, r, name, other); err != nil || !ok {
		return entry, false, err
	}
	entry, err = tree.Assemble(ctx, r.Tree, staged, name, []chunk.Part{{Length: other.Size}}, nil, options)
	if err != nil {
		return entry, false, ctx.Err()
	}
	ok, err = unchanged(ctx, r, name, other)
	if ok && err == nil && !r.Tree.Capabilities().Far { // it is near: reading it costs little
		var made chunk.Digest
		made, _, err = digest(ctx, r.Tree, staged)
		ok = made == other.Digest
	}
	if !ok || err != nil {
		if bad := m.drop(ctx, r, staged); err == nil {
			err = bad
		}
	}
	return entry, ok && err == nil, err
}
