package transfer

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path"

	"bridgespan/core/chunk"
	"bridgespan/tree"
)

// Staged is a file that waits in an intake, with all that goes with it. Its holder places it
// or drops it, and then releases its room.
type Staged struct {
	Path   string     // where it waits
	Entry  tree.Entry // as it is there
	Digest chunk.Digest
	Saved  int64 // bytes of it that did not have to cross

	to      *Endpoint
	release func()
}

// Release gives the room in the intake back. It may be called twice.
func (s *Staged) Release() { s.release() }

// Drop removes the file from the intake, also when ctx has ended.
func (s *Staged) Drop(ctx context.Context) error { return s.to.Drop(ctx, s.Path) }

// Place puts the file in its place, where nothing is; with replace, where a file is. When the
// tree can exchange two files, what was there waits at left afterwards, and the caller
// removes it when it is known to be what was to be replaced.
func (s *Staged) Place(ctx context.Context, name string, replace bool) (left string, err error) {
	if replace {
		if err := tree.Exchange(ctx, s.to.Tree, s.Path, name); !errors.Is(err, tree.ErrUnsupported) {
			return s.Path, err
		}
	}
	return "", s.to.Tree.Rename(ctx, s.Path, name, replace)
}

// Stage copies a file into the intake of an endpoint, where it is durable then. It returns
// tree.ErrChanged when the file is not what the caller knows. When it is interrupted, what has
// arrived of a large file stays for the next transfer with its key; else nothing stays.
func (e *Endpoint) Stage(ctx context.Context, from *Endpoint, f File, o Options) (*Staged, error) {
	t := &task{from: from, to: e, file: f, Options: o}
	var release func()
	err := o.Limiter.Rest(func() (err error) {
		release, err = e.enter(ctx, t.room())
		return err
	})
	if err != nil {
		return nil, err
	}
	if t.staged, err = t.begin(ctx); err == nil {
		var entry tree.Entry
		if entry, err = t.run(ctx); err == nil {
			return &Staged{t.staged, entry, t.digest, t.saved, e, release}, nil
		}
	}
	release()
	return nil, err
}

// task is the transfer of one file.
type task struct {
	Options
	from, to *Endpoint
	file     File
	staged   string
	listed   bool          // both ends are listed afterwards, and all is flushed then
	arrived  chunk.Partial // by an interrupted transfer, or so far
	digest   chunk.Digest  // of what was staged
	saved    int64
	// prepaid is how many bytes were paced by an upload that the source's host could not do. They cross afterwards.
	prepaid int
}

// room is how much the file may take in the intake: where it is made of parts of an older
// version, some of these may be there a second time.
func (t *task) room() int64 {
	if t.Older != nil && t.to.assembles(t.Older.Entry.Size) {
		return t.file.Entry.Size + t.to.Tree.Capabilities().Beside
	}
	return t.file.Entry.Size
}

// begin is where the file waits of which a part has arrived; else a new name in the intake.
func (t *task) begin(ctx context.Context) (staged string, err error) {
	p, err := t.to.partial(ctx, t.Key)
	if err != nil {
		return "", err
	}
	if p.Staged != "" {
		err := t.to.reopen(ctx, p)
		if err == nil {
			t.arrived = p
			return p.Staged, nil
		}
		if !errors.Is(err, tree.ErrUnsupported) {
			return "", err
		}
		_ = t.to.Drop(ctx, p.Staged) // what keeps us out stays until it does not
		if err := t.to.forgetPartial(ctx, p.Key); err != nil {
			return "", err
		}
	}
	return t.to.stagedName(ctx)
}

// run copies the content into the intake. It is durable then, unless the files beside it are
// to be flushed with it.
func (t *task) run(ctx context.Context) (entry tree.Entry, err error) {
	err = t.Limiter.File(t.file.Entry.Size, func() (err error) {
		entry, err = t.fetch(ctx)
		return err
	})
	if err == nil && !t.listed {
		err = t.Limiter.Rest(func() error { return t.to.Flush(ctx) })
	}
	if err != nil && (t.arrived.Bytes == 0 || errors.Is(err, tree.ErrNoSpace)) { // else it resumes another time
		_ = t.to.Drop(ctx, t.staged)
	}
	return entry, err
}

// fetch opens the file and stages it.
func (t *task) fetch(ctx context.Context) (entry tree.Entry, err error) {
	err = t.withContent(ctx, func(content tree.Content) error {
		entry, err = t.stage(ctx, content)
		return err
	})
	return entry, err
}

// withContent does something with the open file, when it is what the caller knows.
func (t *task) withContent(ctx context.Context, do func(tree.Content) error) error {
	content, err := t.open(ctx)
	if absent(err) {
		return tree.ErrChanged
	}
	if err != nil {
		return err
	}
	defer content.Close()
	if !same(t.file.Entry, content.Entry()) {
		return tree.ErrChanged
	}
	if content.Entry().Residency == tree.Stub && !t.FetchStubs {
		return tree.PathError("open", t.file.Path, tree.ErrStub)
	}
	return do(content)
}

// open opens the file at the source. A small one is not asked what it is: that is compared
// once, when it was read.
func (t *task) open(ctx context.Context) (tree.Content, error) {
	if t.file.Entry.Size > SmallFile {
		return t.from.Tree.Open(ctx, t.file.Path)
	}
	expected := t.file.Entry
	expected.Name = path.Base(t.file.Path)
	return tree.OpenExpected(ctx, t.from.Tree, t.file.Path, expected)
}

// stage writes content into the intake, with all that goes with it. Where the endpoint does
// not let us name owners, the rest is set afterwards.
func (t *task) stage(ctx context.Context, content tree.Content) (tree.Entry, error) {
	options := tree.PutOptions{Size: t.file.Entry.Size, SizeKnown: true, Detail: t.Detail, Listed: t.listed}
	if t.to.NamesOwners() {
		options.Meta = t.Meta
	}
	entry, err := t.write(ctx, content, options)
	if errors.Is(err, fs.ErrPermission) && !options.Meta.Descriptor.IsZero() {
		t.to.noteNameless()
		options.Meta = tree.Meta{}
		entry, err = t.write(ctx, content, options)
	}
	if err != nil || t.to.NamesOwners() {
		return entry, err
	}
	if err := t.to.Apply(ctx, t.staged, t.Meta); err != nil {
		return entry, err
	}
	// What the endpoint makes of it is read now: afterwards people may change it.
	return t.to.look(ctx, t.staged, t.Detail)
}

// write stages content in the first way that is possible: the rest of what has arrived, a
// copy of what the endpoint has, the changes of an older version, or all of it.
func (t *task) write(ctx context.Context, content tree.Content, options tree.PutOptions) (tree.Entry, error) {
	t.saved = 0
	for _, way := range []func(context.Context, tree.Content, tree.PutOptions) (tree.Entry, error){t.resume, t.duplicate, t.delta} {
		if entry, err := way(ctx, content, options); !errors.Is(err, tree.ErrUnsupported) {
			return entry, err
		}
	}
	return t.copy(ctx, content, options)
}

// paced passes content on as fast as may be.
func (t *task) paced(ctx context.Context, content io.Reader) io.Reader {
	if t.Pace == nil {
		return content
	}
	return tree.Paced(ctx, content, t.cross)
}

// cross waits until so many bytes may cross.
func (t *task) cross(ctx context.Context, bytes int) error {
	if t.Pace == nil {
		return nil
	}
	paid := min(bytes, t.prepaid)
	if t.prepaid -= paid; bytes == paid {
		return nil
	}
	return t.Pace(ctx, bytes-paid)
}
