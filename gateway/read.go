package gateway

import (
	"context"
	"errors"
	"hash/maphash"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"time"

	"bridgespan/core/namespace"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/tree"
)

// stallMost is how long a server may keep a reader waiting before it counts as
// one that does not answer.
const stallMost = 10 * time.Second

// readFile is a file open for reading. When its server goes away in the middle,
// reading goes on at another location, if what it holds is verified equal:
// length and time are the same, and so is everything that was sent so far.
type readFile struct {
	view       *view
	ctx        context.Context
	directions model.Directions
	place      place
	entry      tree.Entry

	chosen  *chosen
	content tree.Content
	stream  *tree.Reader
	began   int64 // where reading in order began
	offset  int64
	sent    maphash.Hash // of everything between the two
	failed  map[namespace.Target]bool
}

var errNotEqual = errors.New("no other location holds the same content")

func (v *view) openRead(ctx context.Context, p place, entry tree.Entry) (*readFile, error) {
	f := &readFile{view: v, ctx: ctx, directions: p.directions, place: p, entry: entry, chosen: v.chosen[p.signpost], failed: map[namespace.Target]bool{}}
	var err error
	f.content, err = p.tree.Open(ctx, p.rest)
	return f, err
}

func (f *readFile) Read(p []byte) (int, error) {
	data, err := f.next(int64(len(p)))
	return copy(p, data), err
}

// next reads on from the offset, without copying.
func (f *readFile) next(most int64) ([]byte, error) {
	for {
		data, err := f.piece(most)
		if err == nil || err == io.EOF {
			f.offset += int64(len(data))
			_, _ = f.sent.Write(data) // a hash takes everything
			return data, err
		}
		if !passOver(err) || f.ctx.Err() != nil {
			return nil, err
		}
		if err := f.moveOn(err); err != nil {
			return nil, err
		}
	}
}

func (f *readFile) piece(most int64) ([]byte, error) {
	if f.stream == nil {
		f.stream = tree.Stream(f.ctx, f.content, f.offset)
	}
	session := f.chosen.kept.session
	stall := time.AfterFunc(stallMost, guard.Func(func() { session.Close() }))
	defer stall.Stop()
	return f.stream.Next(most)
}

// moveOn goes on at another location after the one that is read did not answer.
func (f *readFile) moveOn(because error) error {
	f.Close()
	f.failed[f.chosen.target] = true
	broken := f.chosen.target.Server
	guard.Go(func() {
		f.view.gateway.suspect(context.WithoutCancel(f.ctx), f.place.signpost, broken, because)
	})
	for _, direction := range f.directions.Directions {
		if direction.State != namespace.Open || direction.ForOthers || f.failed[direction.Target()] {
			continue
		}
		c, err := f.equal(direction)
		if err != nil {
			slog.Info("a reader cannot go on at another location", "location", direction.Target().String(), "path", f.place.rest, "error", err)
			f.failed[direction.Target()] = true
			continue
		}
		slog.Info("a reader goes on at another location", "from", f.chosen.target.String(), "to", c.target.String(), "path", f.place.rest, "at", f.offset)
		f.chosen, f.stream = c, nil
		return nil
	}
	return errors.Join(errNotEqual, because)
}

// equal opens the file at another location and verifies it: the content that
// is open afterwards holds what was sent so far.
func (f *readFile) equal(direction namespace.Direction) (*chosen, error) {
	t, k, err := f.view.open(f.ctx, direction, f.place.rest, f.directions.Path)
	if err != nil {
		return nil, err
	}
	content, err := t.Open(f.ctx, f.place.rest)
	if err != nil {
		return nil, err
	}
	if e := content.Entry(); e.Size != f.entry.Size || !e.Modified.Equal(f.entry.Modified) {
		content.Close()
		return nil, errNotEqual
	}
	same, err := f.sentFrom(content)
	if err != nil || !same {
		content.Close()
		return nil, errors.Join(errNotEqual, err)
	}
	f.content = content
	return &chosen{tree: t, kept: k, target: direction.Target()}, nil
}

// sentFrom reports whether content holds what was sent so far.
func (f *readFile) sentFrom(content tree.Content) (bool, error) {
	var there maphash.Hash
	there.SetSeed(f.sent.Seed())
	stream := tree.Stream(f.ctx, content, f.began)
	defer stream.Close()
	_, err := io.CopyN(&there, stream, f.offset-f.began)
	return err == nil && there.Sum64() == f.sent.Sum64(), err
}

func (f *readFile) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += f.offset
	case io.SeekEnd:
		offset += f.entry.Size
	}
	if offset < 0 {
		return 0, fs.ErrInvalid
	}
	if offset != f.offset {
		if f.stream != nil {
			f.stream.Close()
			f.stream = nil
		}
		f.began = offset
		f.sent.Reset()
	}
	f.offset = offset
	return offset, nil
}

func (f *readFile) Close() error {
	if f.stream != nil {
		f.stream.Close()
		f.stream = nil
	}
	if f.content == nil {
		return nil
	}
	content := f.content
	f.content = nil
	return content.Close()
}

// copyTo hands n bytes on in large pieces, without copying them on the way.
func (f *readFile) copyTo(w io.Writer, n int64) (done int64, err error) {
	for done < n {
		data, err := f.next(n - done)
		if err == io.EOF {
			return done, nil
		}
		if err != nil {
			return done, err
		}
		m, err := w.Write(data)
		done += int64(m)
		if err != nil {
			return done, err
		}
	}
	return done, nil
}

// pieces takes a file's content in large pieces, where http.ServeContent would
// copy it in small ones, and remembers whether all of it could be read.
type pieces struct {
	http.ResponseWriter
	err error
}

func (w *pieces) ReadFrom(r io.Reader) (int64, error) {
	limited, ok := r.(*io.LimitedReader)
	if !ok {
		return io.Copy(w.ResponseWriter, r)
	}
	f, ok := limited.R.(*readFile)
	if !ok {
		return io.Copy(w.ResponseWriter, r)
	}
	n, err := f.copyTo(w.ResponseWriter, limited.N)
	limited.N -= n
	w.err = err
	return n, err
}

// Unwrap serves http.ResponseController.
func (w *pieces) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// get answers GET and HEAD: of a file its content, of a folder a page.
func (q *request) get() error {
	p, entry, err := q.look(q.name)
	if err != nil {
		return err
	}
	if entry.Kind == tree.Folder {
		return q.browse(p)
	}
	f, err := q.openRead(q.r.Context(), p, entry)
	if err != nil {
		return err
	}
	defer f.Close()
	f.entry = f.content.Entry()
	q.w.Header().Set("ETag", etag(f.entry))
	kind := contentType(q.name)
	q.w.Header().Set("Content-Type", kind)
	shield(q.w.Header(), kind)
	w := &pieces{ResponseWriter: q.w}
	http.ServeContent(w, q.r, "", f.entry.Modified, f)
	if w.err != nil && !errors.Is(w.err, context.Canceled) {
		slog.Warn("a read broke off", "path", q.name, "error", w.err)
	}
	if w.err != nil {
		panic(http.ErrAbortHandler) // whoever reads must not take the part for the whole
	}
	return nil
}
