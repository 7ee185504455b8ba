package tree

import (
	"context"
	"io"
	"iter"

	"bridgespan/core/acl"
	"bridgespan/core/chunk"
)

// Forwarder forwards every call to another tree. A tree that wraps others embeds it and
// overrides what it does itself, so that no ability of the wrapped tree gets lost.
type Forwarder struct {
	// Use calls do with the tree to forward to, and returns its error. writes is true for a
	// call that changes something there.
	Use func(ctx context.Context, writes bool, do func(t Tree) error) error
	// Opened wraps an open file of t; nil does not.
	Opened func(content Content, t Tree, name string) Content
}

func (h *Forwarder) Stat(ctx context.Context, name string) (e Entry, err error) {
	err = h.Use(ctx, false, func(t Tree) error { e, err = t.Stat(ctx, name); return err })
	return e, err
}

func (h *Forwarder) Identify(ctx context.Context, name string) (e Entry, err error) {
	err = h.Use(ctx, false, func(t Tree) error { e, err = Identify(ctx, t, name); return err })
	return e, err
}

func (h *Forwarder) List(ctx context.Context, name string, detail Detail) iter.Seq2[Entry, error] {
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

func (h *Forwarder) Open(ctx context.Context, name string) (Content, error) {
	return h.open(ctx, name, func(t Tree) (Content, error) { return t.Open(ctx, name) })
}

func (h *Forwarder) OpenExpected(ctx context.Context, name string, expected Entry) (Content, error) {
	return h.open(ctx, name, func(t Tree) (Content, error) { return OpenExpected(ctx, t, name, expected) })
}

func (h *Forwarder) open(ctx context.Context, name string, with func(Tree) (Content, error)) (content Content, err error) {
	err = h.Use(ctx, false, func(t Tree) error {
		if content, err = with(t); err == nil && h.Opened != nil {
			content = h.Opened(content, t, name)
		}
		return err
	})
	return content, err
}

func (h *Forwarder) Put(ctx context.Context, name string, content io.Reader, options PutOptions) (e Entry, err error) {
	err = h.Use(ctx, true, func(t Tree) error { e, err = t.Put(ctx, name, content, options); return err })
	return e, err
}

func (h *Forwarder) Mkdir(ctx context.Context, name string) error {
	return h.Use(ctx, true, func(t Tree) error { return t.Mkdir(ctx, name) })
}

func (h *Forwarder) Rename(ctx context.Context, from, to string, replace bool) error {
	return h.Use(ctx, true, func(t Tree) error { return t.Rename(ctx, from, to, replace) })
}

func (h *Forwarder) Remove(ctx context.Context, name string) error {
	return h.Use(ctx, true, func(t Tree) error { return t.Remove(ctx, name) })
}

func (h *Forwarder) Descriptor(ctx context.Context, name string) (d acl.Descriptor, err error) {
	err = h.Use(ctx, false, func(t Tree) error { d, err = t.Descriptor(ctx, name); return err })
	return d, err
}

func (h *Forwarder) Apply(ctx context.Context, name string, meta Meta) error {
	return h.Use(ctx, true, func(t Tree) error { return t.Apply(ctx, name, meta) })
}

func (h *Forwarder) Space(ctx context.Context) (s Space, err error) {
	err = h.Use(ctx, false, func(t Tree) error { s, err = t.Space(ctx); return err })
	return s, err
}

func (h *Forwarder) Exchange(ctx context.Context, a, b string) error {
	return h.Use(ctx, true, func(t Tree) error { return Exchange(ctx, t, a, b) })
}

func (h *Forwarder) Protect(ctx context.Context, folder string) error {
	return h.Use(ctx, true, func(t Tree) error { return Protect(ctx, t, folder) })
}

func (h *Forwarder) Seal(ctx context.Context, name string) error {
	return h.Use(ctx, true, func(t Tree) error { return Seal(ctx, t, name) })
}

func (h *Forwarder) Tidy(ctx context.Context) error {
	return h.Use(ctx, true, func(t Tree) error { return Tidy(ctx, t) })
}

func (h *Forwarder) MayWrite(ctx context.Context, folder string) error {
	return h.Use(ctx, false, func(t Tree) error { return MayWrite(ctx, t, folder) })
}

func (h *Forwarder) Stage(ctx context.Context, name string, content io.Reader, options PutOptions) (e Entry, err error) {
	err = h.Use(ctx, true, func(t Tree) error { e, err = Stage(ctx, t, name, content, options); return err })
	return e, err
}

func (h *Forwarder) Flush(ctx context.Context) error {
	return h.Use(ctx, false, func(t Tree) error { return Flush(ctx, t) })
}

func (h *Forwarder) Assemble(ctx context.Context, name, base string, parts []chunk.Part, content io.ReaderAt, options PutOptions) (e Entry, err error) {
	err = h.Use(ctx, true, func(t Tree) error {
		e, err = Assemble(ctx, t, name, base, parts, content, options)
		return err
	})
	return e, err
}

func (h *Forwarder) StageStub(ctx context.Context, name string, mark Mark, options PutOptions) (e Entry, err error) {
	err = h.Use(ctx, true, func(t Tree) error { e, err = StageStub(ctx, t, name, mark, options); return err })
	return e, err
}

func (h *Forwarder) Offload(ctx context.Context, name string, expected Entry, mark Mark) (e Entry, err error) {
	err = h.Use(ctx, true, func(t Tree) error { e, err = Offload(ctx, t, name, expected, mark); return err })
	return e, err
}

func (h *Forwarder) FetchPart(ctx context.Context, name string, at, n int64) error {
	return h.Use(ctx, true, func(t Tree) error { return FetchPart(ctx, t, name, at, n) })
}

func (h *Forwarder) Fetch(ctx context.Context, name string) error {
	return h.Use(ctx, true, func(t Tree) error { return Fetch(ctx, t, name) })
}

func (h *Forwarder) Mark(ctx context.Context, name string) (m Mark, err error) {
	err = h.Use(ctx, false, func(t Tree) error { m, err = MarkOf(ctx, t, name); return err })
	return m, err
}

func (h *Forwarder) StoreID(ctx context.Context) (id string, err error) {
	err = h.Use(ctx, false, func(t Tree) error { id, err = StoreID(ctx, t); return err })
	return id, err
}

func (h *Forwarder) Upload(ctx context.Context, u *Upload) (done Uploaded, err error) {
	err = h.Use(ctx, true, func(t Tree) error { done, err = UploadFrom(ctx, t, u); return err })
	return done, err
}

func (h *Forwarder) Watch(ctx context.Context) iter.Seq2[string, error] {
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
