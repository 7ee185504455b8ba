package transfer

import (
	"context"
	"io"

	"bridgespan/core/chunk"
	"bridgespan/tree"
)

// duplicateFrom is how large a file is, in bytes, of which another copy is looked for. An object service takes several requests for
// it, each of which costs a round trip.
const (
	duplicateFrom       = 64 << 10
	duplicateObjectFrom = 1 << 20
)

// duplicate stages a file as a copy of one that the endpoint holds under another name: people
// copied it, and nothing but its name has to cross. It returns tree.ErrUnsupported when there
// is none, or the endpoint cannot copy.
func (t *task) duplicate(ctx context.Context, content tree.Content, options tree.PutOptions) (tree.Entry, error) {
	alike, err := t.alike(ctx)
	if err != nil || len(alike) == 0 {
		return tree.Entry{}, orUnsupported(err)
	}
	return t.duplicateOf(ctx, alike, content, options)
}

// alike lists the files that the file may be a copy of.
func (t *task) alike(ctx context.Context) ([]Known, error) {
	from := int64(duplicateFrom)
	if t.to.Tree.Capabilities().WholePuts {
		from = duplicateObjectFrom
	}
	if t.Alike == nil || t.file.Entry.Size < t.to.Settings.least(from) {
		return nil, nil
	}
	return t.Alike(ctx)
}

// duplicateOf stages a file as a copy of one of those that it may be a copy of.
func (t *task) duplicateOf(ctx context.Context, alike []Known, content tree.Content, options tree.PutOptions) (tree.Entry, error) {
	d := t.file.Digest
	if !d.Known() { // a copy keeps its time: it is one, most likely, and worth reading
		var err error
		if d, err = t.digestAtSource(ctx, content); err != nil {
			return tree.Entry{}, err
		}
		t.file.Digest = d
	}
	for _, other := range alike {
		if other.Digest != d {
			continue
		}
		entry, ok, err := t.copyOf(ctx, &other, options)
		if err != nil {
			return tree.Entry{}, err
		}
		if ok {
			t.digest, t.saved = d, t.file.Entry.Size
			return entry, nil
		}
	}
	return tree.Entry{}, tree.ErrUnsupported
}

// digestAtSource hashes the file.
func (t *task) digestAtSource(ctx context.Context, content tree.Content) (chunk.Digest, error) {
	d, err := tree.Sum(ctx, content, tree.BLAKE3, func(r io.Reader) io.Reader { return t.paced(ctx, r) })
	if err == nil {
		err = still(ctx, t.from.Tree, t.file.Path, content)
	}
	return d, err
}

// copyOf stages a copy of a file of the endpoint. ok is false when it is not what it was, before
// or afterwards, or cannot be copied: then the content crosses as ever.
func (t *task) copyOf(ctx context.Context, other *Known, options tree.PutOptions) (entry tree.Entry, ok bool, err error) {
	if t.to.Tree.Capabilities().WholePuts {
		options.Digest = other.Digest // the service copies an object of that content alone
		entry, err = tree.Assemble(ctx, t.to.Tree, t.staged, other.Path, []chunk.Part{{Length: other.Entry.Size}}, nil, options)
		return entry, err == nil, ctx.Err()
	}
	if ok, err := t.to.holds(ctx, other.Path, other.Entry); err != nil || !ok {
		return entry, false, err
	}
	entry, err = tree.Assemble(ctx, t.to.Tree, t.staged, other.Path, []chunk.Part{{Length: other.Entry.Size}}, nil, options)
	if err != nil {
		return entry, false, ctx.Err()
	}
	ok, err = t.to.holds(ctx, other.Path, other.Entry)
	if ok && err == nil && !t.to.Tree.Capabilities().Far { // it is near: reading it costs little
		var made chunk.Digest
		made, _, err = Digest(ctx, t.to.Tree, t.staged, nil)
		ok = made == other.Digest
	}
	if !ok || err != nil {
		if bad := t.to.Drop(ctx, t.staged); err == nil {
			err = bad
		}
	}
	return entry, ok && err == nil, err
}

// Duplicate copies a file within the endpoint to a name where nothing is, with its time, attributes and
// permissions. entry is the file as the caller has seen it.
func (e *Endpoint) Duplicate(ctx context.Context, from string, entry tree.Entry, name string) error {
	meta := tree.Meta{Modified: entry.Modified, Attributes: &entry.Attributes, Descriptor: entry.Descriptor}
	_, err := tree.Assemble(ctx, e.Tree, name, from, []chunk.Part{{Length: entry.Size}}, nil, tree.PutOptions{Size: entry.Size, SizeKnown: true, Meta: meta})
	return err
}
