package tree

import (
	"context"
	"io"
	"iter"

	"bridgespan/core/acl"
	"bridgespan/core/chunk"
)

// Through is a tree that asks another one for all that it is asked for. It is what trees
// are made of that stand before others: they embed it, and do themselves what is theirs
// to do. So no ability of the tree behind gets lost on the way.
type Through struct {
	// Use lets do ask the tree behind, and returns its error. writes tells that something
	// is changed there.
	Use func(ctx context.Context, writes bool, do func(t Tree) error) error
	// Opened is what is made of an open file of t; nil leaves it as it is.
	Opened func(content Content, t Tree, name string) Content
}

func (h *Through) Stat(ctx context.Context, name string) (e Entry, err error) {
	err = h.Use(ctx, false, func(t Tree) error { e, err = t.Stat(ctx, name); return err })
	return e, err
}

func (h *Through) List(ctx context.Context, name string, detail Detail) iter.Seq2[Entry, error] {
	return func(yield func(Entry, error) bool) {
		stopped := false
		err := h.Use(ctx, false, func(t Tree) (last error) {
			for e, err := range t.List(ctx, name, detail) {
				if err != nil && e.Name == "" {
					return err // it is the end
				}
				if err != nil {
					last = err
				}
				if !yield(e, err) {
					stopped = true
					return last
				}
			}
			stopped = true // all of it was told
			return last
		})
		if err != nil && !stopped {
			yield(Entry{}, err)
		}
	}
}

func (h *Through) Open(ctx context.Context, name string) (Content, error) {
	return h.open(ctx, name, func(t Tree) (Content, error) { return t.Open(ctx, name) })
}

func (h *Through) OpenExpected(ctx context.Context, name string, expected Entry) (Content, error) {
	return h.open(ctx, name, func(t Tree) (Content, error) { return OpenExpected(ctx, t, name, expected) })
}

func (h *Through) open(ctx context.Context, name string, with func(Tree) (Content, error)) (content Content, err error) {
	err = h.Use(ctx, false, func(t Tree) error {
		if content, err = with(t); err == nil && h.Opened != nil {
			content = h.Opened(content, t, name)
		}
		return err
	})
	return content, err
}

func (h *Through) Put(ctx context.Context, name string, content io.Reader, options PutOptions) (e Entry, err error) {
	err = h.Use(ctx, true, func(t Tree) error { e, err = t.Put(ctx, name, content, options); return err })
	return e, err
}

func (h *Through) Mkdir(ctx context.Context, name string) error {
	return h.Use(ctx, true, func(t Tree) error { return t.Mkdir(ctx, name) })
}

func (h *Through) Rename(ctx context.Context, from, to string, replace bool) error {
	return h.Use(ctx, true, func(t Tree) error { return t.Rename(ctx, from, to, replace) })
}

func (h *Through) Remove(ctx context.Context, name string) error {
	return h.Use(ctx, true, func(t Tree) error { return t.Remove(ctx, name) })
}

func (h *Through) Descriptor(ctx context.Context, name string) (d acl.Descriptor, err error) {
	err = h.Use(ctx, false, func(t Tree) error { d, err = t.Descriptor(ctx, name); return err })
	return d, err
}

func (h *Through) Apply(ctx context.Context, name string, meta Meta) error {
	return h.Use(ctx, true, func(t Tree) error { return t.Apply(ctx, name, meta) })
}

func (h *Through) Space(ctx context.Context) (s Space, err error) {
	err = h.Use(ctx, false, func(t Tree) error { s, err = t.Space(ctx); return err })
	return s, err
}

func (h *Through) Exchange(ctx context.Context, a, b string) error {
	return h.Use(ctx, true, func(t Tree) error { return Exchange(ctx, t, a, b) })
}

func (h *Through) Protect(ctx context.Context, folder string) error {
	return h.Use(ctx, true, func(t Tree) error { return Protect(ctx, t, folder) })
}

func (h *Through) Seal(ctx context.Context, name string) (had acl.Descriptor, err error) {
	err = h.Use(ctx, true, func(t Tree) error { had, err = Seal(ctx, t, name); return err })
	return had, err
}

func (h *Through) MayWrite(ctx context.Context, folder string) error {
	return h.Use(ctx, false, func(t Tree) error { return MayWrite(ctx, t, folder) })
}

func (h *Through) Stage(ctx context.Context, name string, content io.Reader, options PutOptions) (e Entry, err error) {
	err = h.Use(ctx, true, func(t Tree) error { e, err = Stage(ctx, t, name, content, options); return err })
	return e, err
}

func (h *Through) Flush(ctx context.Context) error {
	return h.Use(ctx, false, func(t Tree) error { return Flush(ctx, t) })
}

func (h *Through) Assemble(ctx context.Context, name, base string, parts []chunk.Part, content io.ReaderAt, options PutOptions) (e Entry, err error) {
	err = h.Use(ctx, true, func(t Tree) error {
		e, err = Assemble(ctx, t, name, base, parts, content, options)
		return err
	})
	return e, err
}

func (h *Through) Watch(ctx context.Context) iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		stopped := false
		err := h.Use(ctx, false, func(t Tree) (last error) {
			for folder, err := range Watch(ctx, t) {
				if !yield(folder, err) {
					stopped = true
					return err
				}
				if err != nil {
					last = err
				}
			}
			stopped = true
			return last
		})
		if err != nil && !stopped {
			yield(".", err)
		}
	}
}
