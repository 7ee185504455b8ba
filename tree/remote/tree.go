package remote

import (
	"context"
	"errors"
	"io"
	"iter"
	"path"

	"bridgespan/core/acl"
	"bridgespan/core/chunk"
	"bridgespan/tree"
)

// Tree is a folder at a host where a mover runs.
type Tree struct {
	host         *Host
	folder, sub  string
	capabilities tree.Capabilities
}

// Tree opens a folder that the mover serves, or one within it. Closing it does
// not close the host.
func (h *Host) Tree(ctx context.Context, folder, sub string) (*Tree, error) {
	t := &Tree{host: h, folder: folder, sub: sub}
	a, err := t.call(ctx, "open-folder", ".", call{}, nil)
	if err == nil && a.Capabilities != nil {
		t.capabilities = *a.Capabilities
	}
	return t, err
}

func (t *Tree) Capabilities() tree.Capabilities { return t.capabilities }

func (t *Tree) Close() error { return nil }

// call calls the mover, and reads an answer of one line.
func (t *Tree) call(ctx context.Context, op, name string, c call, content io.Reader) (answer, error) {
	a, rest, end, err := t.begin(ctx, op, name, c, content)
	if err != nil {
		return a, err
	}
	defer end()
	_, _ = io.CopyN(io.Discard, rest, mostAnswer) // so that the connection can be used again
	return a, nil
}

// begin calls the mover, and reads the first line of the answer. The caller must
// call end, unless there is an error.
func (t *Tree) begin(ctx context.Context, op, name string, c call, content io.Reader) (a answer, rest io.Reader, end func(), err error) {
	if err := tree.CheckName(op, name); err != nil {
		return a, nil, nil, err
	}
	c.Sub, c.Name = t.sub, name
	reader, end, err := t.host.send(ctx, t.folder, op, c, content)
	if err == nil {
		if a, _, err = t.host.readLine(ctx, reader); err != nil {
			end()
		}
	}
	return a, reader, end, tree.PathError(op, name, err)
}

// described calls the mover, and returns the entry that it answers with.
func (t *Tree) described(ctx context.Context, op, name string, c call, content io.Reader) (tree.Entry, error) {
	a, err := t.call(ctx, op, name, c, content)
	if err != nil {
		return tree.Entry{}, err
	}
	return t.entryOf(op, name, a)
}

// entryOf is the entry of an answer about a name. It must be the entry of that name, in
// whatever case.
func (t *Tree) entryOf(op, name string, a answer) (tree.Entry, error) {
	switch {
	case a.Entry == nil:
		return tree.Entry{}, tree.PathError(op, name, t.host.Distrust("an answer without an entry"))
	case tree.Key(a.Entry.Name, false) != tree.Key(path.Base(name), false):
		return tree.Entry{}, tree.PathError(op, name, t.host.Distrust("an answer about %.100q to a call about %.100q", a.Entry.Name, path.Base(name)))
	}
	return fromWire(a.Entry), nil
}

func (t *Tree) Stat(ctx context.Context, name string) (tree.Entry, error) {
	return t.described(ctx, "stat", name, call{}, nil)
}

func (t *Tree) List(ctx context.Context, name string, detail tree.Detail) iter.Seq2[tree.Entry, error] {
	return func(yield func(tree.Entry, error) bool) {
		ctx, cancel := context.WithCancel(ctx)
		defer cancel() // what is left of a listing that nobody wants is not sent
		if err := tree.CheckName("list", name); err != nil {
			yield(tree.Entry{}, err)
			return
		}
		lines, end, err := t.host.send(ctx, t.folder, "list", call{Sub: t.sub, Name: name, Detail: detail}, nil)
		if err != nil {
			yield(tree.Entry{}, tree.PathError("list", name, err))
			return
		}
		defer end()
		bytes := 0
		for {
			a, n, err := t.host.readLine(ctx, lines)
			if bytes += n; err == nil && bytes > mostListing {
				err = t.host.Distrust("it lists a folder in more than %d bytes", mostListing)
			}
			if err == nil && !a.Last && (a.Entry == nil || a.Entry.Name == ".") {
				err = t.host.Distrust("it lists an entry without a name")
			}
			if err != nil {
				yield(tree.Entry{}, tree.PathError("list", name, err))
				return
			}
			if a.Last {
				return
			}
			var beside error
			if a.Error != nil {
				beside = tree.PathError("list", path.Join(name, a.Entry.Name), a.Error.err())
			}
			if !yield(fromWire(a.Entry), beside) {
				return
			}
		}
	}
}

func (t *Tree) Put(ctx context.Context, name string, content io.Reader, options tree.PutOptions) (tree.Entry, error) {
	return t.described(ctx, "put", name, call{Put: putToWire(options)}, content)
}

// Stage writes a new file that is made lasting by the next Flush.
func (t *Tree) Stage(ctx context.Context, name string, content io.Reader, options tree.PutOptions) (tree.Entry, error) {
	return t.described(ctx, "stage", name, call{Put: putToWire(options)}, content)
}

// Protect keeps everybody but the mover out of a folder.
func (t *Tree) Protect(ctx context.Context, folder string) error {
	_, err := t.call(ctx, "protect", folder, call{}, nil)
	return err
}

// Flush makes lasting what was staged.
func (t *Tree) Flush(ctx context.Context) error {
	_, err := t.call(ctx, "flush", ".", call{}, nil)
	return err
}

// Assemble makes a file of ranges of another one at the host; what that does not
// hold alone is sent.
func (t *Tree) Assemble(ctx context.Context, name, base string, parts []chunk.Part, content io.ReaderAt, options tree.PutOptions) (tree.Entry, error) {
	if err := tree.CheckName("assemble", base); err != nil {
		return tree.Entry{}, err
	}
	lacks := tree.StreamLacking(ctx, content, parts)
	defer lacks.Close()
	return t.described(ctx, "assemble", name, call{Other: base, Parts: parts, Put: putToWire(options)}, lacks)
}

// Exchange lets two files change places.
func (t *Tree) Exchange(ctx context.Context, a, b string) error {
	if err := tree.CheckName("exchange", b); err != nil {
		return err
	}
	_, err := t.call(ctx, "exchange", a, call{Other: b}, nil)
	return err
}

func (t *Tree) Mkdir(ctx context.Context, name string) error {
	_, err := t.call(ctx, "mkdir", name, call{}, nil)
	return err
}

// MayWrite reports whether the mover may write in a folder.
func (t *Tree) MayWrite(ctx context.Context, name string) error {
	_, err := t.call(ctx, "may-write", name, call{}, nil)
	return err
}

func (t *Tree) Rename(ctx context.Context, from, to string, replace bool) error {
	if err := tree.CheckName("rename", to); err != nil {
		return err
	}
	_, err := t.call(ctx, "rename", from, call{Other: to, Replace: replace}, nil)
	return err
}

func (t *Tree) Remove(ctx context.Context, name string) error {
	_, err := t.call(ctx, "remove", name, call{}, nil)
	return err
}

func (t *Tree) Descriptor(ctx context.Context, name string) (acl.Descriptor, error) {
	a, err := t.call(ctx, "descriptor", name, call{}, nil)
	return a.Descriptor, err
}

func (t *Tree) Apply(ctx context.Context, name string, m tree.Meta) error {
	_, err := t.call(ctx, "apply", name, call{Meta: metaToWire(m)}, nil)
	return err
}

func (t *Tree) Space(ctx context.Context) (tree.Space, error) {
	a, err := t.call(ctx, "space", ".", call{}, nil)
	if err != nil || a.Space == nil {
		return tree.Space{}, err
	}
	return *a.Space, nil
}

// Watch yields the folders in which something changed, as the host's kernel tells.
func (t *Tree) Watch(ctx context.Context) iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		ctx, cancel := context.WithCancel(ctx)
		defer cancel()
		lines, end, err := t.host.send(ctx, t.folder, "watch", call{Sub: t.sub, Name: "."}, nil)
		if err != nil {
			yield(".", tree.PathError("watch", ".", err))
			return
		}
		defer end()
		for {
			a, _, err := t.host.readLine(ctx, lines)
			if err == nil && a.Folder != "" && tree.CheckName("watch", a.Folder) != nil {
				err = t.host.Distrust("something changed in a folder %.100q", a.Folder)
			}
			switch {
			case ctx.Err() != nil:
				return
			case errors.Is(err, tree.ErrMissed):
				if !yield(".", tree.PathError("watch", ".", err)) {
					return
				}
				continue
			case err != nil:
				yield(".", tree.PathError("watch", ".", err))
				return
			case a.Folder == "" && !a.Begun: // it lives, and nothing changed
				continue
			}
			if !yield(a.Folder, nil) {
				return
			}
		}
	}
}
