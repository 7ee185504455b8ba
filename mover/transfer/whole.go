package transfer

import (
	"context"
	"errors"
	"time"

	"bridgespan/tree"
)

// putWhole copies a file to a tree that puts it whole by itself: nothing waits in an intake.
func (e *Endpoint) putWhole(ctx context.Context, from *Endpoint, f File, name string, o Options) (*Staged, error) {
	t := &task{from: from, to: e, file: f, Options: o, staged: name}
	s := &Staged{Path: name, to: e, release: func() {}}
	options := tree.PutOptions{Size: f.Entry.Size, SizeKnown: true, Meta: o.Meta, Detail: o.Detail}
	if o.Older != nil {
		options.Replace, options.Version = true, o.Older.Entry.Version
	}
	err := o.Limiter.File(f.Entry.Size, func() (err error) {
		for _, way := range []func(context.Context, tree.PutOptions) (tree.Entry, error){t.duplicateWhole, t.upload, t.putRelayed} {
			if s.Entry, err = way(ctx, options); !errors.Is(err, tree.ErrUnsupported) {
				break
			}
		}
		return err
	})
	if errors.Is(err, tree.ErrVersion) {
		err = ErrOlderChanged
	}
	s.Digest, s.Saved = t.digest, t.saved
	return s, err
}

// duplicateWhole makes a new file as a copy of another one of the endpoint. It returns tree.ErrUnsupported when there is none.
func (t *task) duplicateWhole(ctx context.Context, options tree.PutOptions) (entry tree.Entry, err error) {
	if t.Older != nil {
		return entry, tree.ErrUnsupported
	}
	alike, err := t.alike(ctx)
	if err != nil || len(alike) == 0 {
		return entry, orUnsupported(err)
	}
	err = t.withContent(ctx, func(content tree.Content) error {
		entry, err = t.duplicateOf(ctx, alike, content, options)
		return err
	})
	return entry, err
}

// relaysFor is how long contents are relayed by this process after the host of the source could not upload a file.
const relaysFor = time.Minute

// upload lets the host of the source write the file. It returns tree.ErrUnsupported where that cannot.
func (t *task) upload(ctx context.Context, options tree.PutOptions) (tree.Entry, error) {
	if t.FetchStubs || t.from.relays() {
		return tree.Entry{}, tree.ErrUnsupported
	}
	id, err := tree.StoreID(ctx, t.to.Tree)
	if err != nil {
		return tree.Entry{}, err
	}
	paced := 0
	done, err := tree.UploadFrom(ctx, t.from.Tree, &tree.Upload{
		Name: t.file.Path, Expected: t.file.Entry, Digest: t.file.Digest, StoreID: id, To: t.staged, Options: options,
		Pace: func(ctx context.Context, bytes int) error {
			paced += bytes
			return t.cross(ctx, bytes)
		},
	})
	switch {
	case errors.Is(err, tree.ErrUnsupported):
		t.from.relay()
		t.prepaid = paced
	case err == nil:
		t.digest, err = done.Digest, done.Failed
	}
	return done.Entry, err
}

// relays reports whether this process relays contents for now.
func (e *Endpoint) relays() bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.now().Before(e.relaysUntil)
}

// relay lets this process relay contents for a while.
func (e *Endpoint) relay() {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.relaysUntil = e.now().Add(relaysFor)
}

// putRelayed reads the file, and writes it.
func (t *task) putRelayed(ctx context.Context, options tree.PutOptions) (entry tree.Entry, err error) {
	err = t.withContent(ctx, func(content tree.Content) error {
		if err := t.hashFirst(ctx, content); err != nil {
			return err
		}
		in := t.incoming(ctx, content, 0)
		defer in.close()
		options.Digest = t.file.Digest
		entry, err = t.to.Tree.Put(ctx, t.staged, in, options)
		return err
	})
	return entry, err
}

// hashFirst hashes a file that the endpoint keeps with its hash only if that is known in advance. A file that is far away is not
// read twice for it.
func (t *task) hashFirst(ctx context.Context, content tree.Content) (err error) {
	from := t.to.Tree.Capabilities().Digests
	if from > 0 && t.file.Entry.Size >= from && !t.file.Digest.Known() && !t.from.Tree.Capabilities().Far {
		t.file.Digest, err = tree.Sum(ctx, content, tree.BLAKE3, nil)
	}
	return err
}
