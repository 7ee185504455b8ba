package memory

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"path"

	"github.com/zeebo/blake3"

	"bridgespan/core/chunk"
	"bridgespan/tree"
)

func (t *Tree) Put(ctx context.Context, name string, r io.Reader, options tree.PutOptions) (tree.Entry, error) {
	return t.write(ctx, "put", name, r, options, true)
}

// Stage writes a new file that is not flushed yet.
func (t *Tree) Stage(ctx context.Context, name string, r io.Reader, options tree.PutOptions) (tree.Entry, error) {
	if t.Objects && (options.At > 0 || options.Part) {
		return tree.Entry{}, tree.PathError("stage", name, tree.ErrUnsupported)
	}
	options.Replace = options.At > 0
	e, err := t.write(ctx, "stage", name, r, options, false)
	if options.Listed {
		e.ID, e.Attributes = 0, 0
	}
	return e, err
}

// write gathers a file, flushes it if that is wanted, and puts it in place.
func (t *Tree) write(ctx context.Context, op, name string, r io.Reader, options tree.PutOptions, flush bool) (tree.Entry, error) {
	if err := t.begin(ctx, "stage", name); err != nil {
		return tree.Entry{}, err
	}
	err := t.mayPut(name, options)
	var staged bytes.Buffer
	if err == nil && options.At > 0 {
		err = t.grown(name, options.At, &staged)
	}
	t.mu.Unlock()
	if err != nil {
		return tree.Entry{}, err
	}
	if _, err := tree.Gather(ctx, &faultyWriter{t, name, &staged}, r, options); err != nil {
		return tree.Entry{}, tree.PathError(op, name, err)
	}
	if flush {
		if err := t.fault("flush", name); err != nil {
			return tree.Entry{}, err
		}
	}
	if err := t.begin(ctx, "commit", name); err != nil {
		return tree.Entry{}, err
	}
	defer t.mu.Unlock()
	if err := t.mayPut(name, options); err != nil {
		return tree.Entry{}, err
	}
	if !options.Whole(int64(staged.Len())) {
		options.Meta = tree.Meta{}
	}
	return t.commit(name, staged.Bytes(), options)
}

// grown begins what is staged with what was staged before.
func (t *Tree) grown(name string, at int64, staged *bytes.Buffer) error {
	n, err := t.find("stage", name)
	if err != nil {
		return err
	}
	if err := tree.GoesOn(int64(len(n.content)), at); err != nil {
		return tree.PathError("stage", name, err)
	}
	staged.Write(n.content[:at])
	return nil
}

// Assemble stages a file of parts of another one.
func (t *Tree) Assemble(ctx context.Context, name, base string, parts []chunk.Part, r io.ReaderAt, options tree.PutOptions) (tree.Entry, error) {
	from, err := t.Open(ctx, base)
	if err != nil {
		return tree.Entry{}, err
	}
	if t.Objects && (len(parts) != 1 || parts[0].From != 0 || parts[0].Length != from.Entry().Size) {
		return tree.Entry{}, tree.PathError("assemble", name, tree.ErrUnsupported)
	}
	if t.Objects {
		if options.Digest.Known() && options.Digest != from.Entry().Digest {
			return tree.Entry{}, tree.PathError("assemble", base, tree.ErrVersion)
		}
		options.Digest = from.Entry().Digest
	}
	content := tree.Parts(ctx, from, r, parts)
	defer content.Close()
	return t.Stage(ctx, name, content, options)
}

func (t *Tree) Flush(context.Context) error { return t.fault("flush", ".") }

type faultyWriter struct {
	tree *Tree
	name string
	w    *bytes.Buffer
}

func (f *faultyWriter) Write(p []byte) (int, error) {
	if err := f.tree.fault("write", f.name); err != nil {
		return 0, errors.Unwrap(err)
	}
	if f.tree.Keep != nil {
		p = f.tree.Keep(f.name, bytes.Clone(p))
	}
	return f.w.Write(p)
}

func (f *faultyWriter) ReadAt(p []byte, at int64) (int, error) {
	return bytes.NewReader(f.w.Bytes()).ReadAt(p, at)
}

func (t *Tree) mayPut(name string, options tree.PutOptions) error {
	if _, err := t.parent("put", name); err != nil {
		return err
	}
	old, ok := t.nodes[t.key(name)]
	switch {
	case options.Version != "" && !t.Objects:
		return tree.PathError("put", name, tree.ErrUnsupported)
	case options.Version != "" && (!ok || t.entry(old, tree.Plain).Version != options.Version):
		return tree.PathError("put", name, tree.ErrVersion)
	case ok && old.kind != tree.File:
		return tree.PathError("put", name, tree.ErrKind)
	case ok && !options.Replace:
		return tree.PathError("put", name, fs.ErrExist)
	}
	return nil
}

func (t *Tree) commit(name string, data []byte, options tree.PutOptions) (tree.Entry, error) {
	n := &node{content: data, digest: options.Digest}
	if len(data) < digests {
		n.digest = blake3.Sum256(data)
	}
	return t.place(n, name, options)
}

// place puts a new file in its place.
func (t *Tree) place(n *node, name string, options tree.PutOptions) (tree.Entry, error) {
	old := t.nodes[t.key(name)]
	more := n.allocated()
	if old != nil {
		more -= old.allocated()
	}
	if t.used+more > t.capacity() {
		return tree.Entry{}, tree.PathError("put", name, tree.ErrNoSpace)
	}
	t.used += more
	t.lastID++
	n.path, n.kind, n.modified, n.id = name, tree.File, t.now(), t.lastID
	n.created = n.modified
	if old != nil {
		n.path, n.descriptor = old.path, old.descriptor
	} else if parent := t.nodes[t.key(path.Dir(name))]; parent != nil {
		n.descriptor = parent.descriptor
	}
	n.apply(options.Meta)
	t.nodes[t.key(name)] = n
	return t.entry(n, options.Detail), nil
}

// allocated is how many bytes a file occupies.
func (n *node) allocated() int64 {
	if n.residency == tree.Stub {
		return 0
	}
	return int64(len(n.content))
}

func (n *node) apply(meta tree.Meta) {
	if !meta.Modified.IsZero() {
		n.modified = meta.Modified
	}
	if meta.Attributes != nil {
		n.attributes = *meta.Attributes & tree.SettableAttributes
	}
	if !meta.Descriptor.IsZero() {
		n.descriptor = meta.Descriptor
	}
}
