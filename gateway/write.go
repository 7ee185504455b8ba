package gateway

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"path"

	"bridgespan/core/fault"
	"bridgespan/core/lock"
	"bridgespan/core/namespace"
	"bridgespan/gateway/dav"
	"bridgespan/tree"
)

// changeOf is what putting something at a name changes: the name, and the list
// of the folder that it is in when it is new there or goes from there.
func changeOf(name string, deep, listed bool) []lock.Change {
	changes := []lock.Change{{Key: keyOfPath(name), Deep: deep}}
	if listed {
		changes = append(changes, lock.Change{Key: keyOfPath(cleaned(path.Dir(name)))})
	}
	return changes
}

// put takes a file's content and puts it in place, whole.
func (q *request) put() error {
	ctx := q.r.Context()
	p, err := q.inTree(q.name, true)
	if err != nil {
		return err
	}
	if q.r.Header.Get("Content-Range") != "" {
		return refuse(http.StatusBadRequest, "files are written whole: leave Content-Range out") // RFC 9110, section 14.5
	}
	entry, there, err := q.there(q.name, p)
	if err != nil {
		return err
	}
	if there && entry.Kind == tree.Folder {
		return refuse(http.StatusMethodNotAllowed, "%s is a folder", q.name)
	}
	if err := q.conditions(entry, there); err != nil {
		return err
	}
	changes := changeOf(q.name, false, !there)
	if err := q.unlocked(changes...); err != nil {
		return err
	}
	if err := q.hasFolder(ctx, p); err != nil {
		return err
	}
	// Somebody may take a lock while the content is on its way.
	content := &guarded{r: q.body, last: func() error { return q.unlocked(changes...) }}
	delete(q.known, q.name)
	made, err := p.tree.Put(ctx, p.rest, content, tree.PutOptions{Replace: true, Size: q.r.ContentLength, SizeKnown: q.r.ContentLength >= 0})
	if q.body.err != nil {
		return errors.Join(tree.ErrTorn, q.body.err)
	}
	if err != nil {
		return err
	}
	q.w.Header().Set("ETag", etag(made))
	q.w.WriteHeader(created(!there))
	return nil
}

func created(new bool) int {
	if new {
		return http.StatusCreated
	}
	return http.StatusNoContent
}

// guarded asks once more before it says that there is nothing left to read.
type guarded struct {
	r    io.Reader
	last func() error
}

func (g *guarded) Read(p []byte) (int, error) {
	n, err := g.r.Read(p)
	if err == io.EOF {
		if refused := g.last(); refused != nil {
			return 0, refused
		}
	}
	return n, err
}

// watchedBody remembers how reading the request ended, so that a file whose
// sender went away is not taken for a whole one.
type watchedBody struct {
	io.ReadCloser
	err error
}

func (b *watchedBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if err != nil && err != io.EOF {
		b.err = err
	}
	return n, err
}

// mkcol makes a folder.
func (q *request) mkcol() error {
	ctx := q.r.Context()
	p, err := q.inTree(q.name, true)
	if err != nil {
		return err
	}
	if n, _ := io.ReadFull(q.r.Body, make([]byte, 1)); n > 0 {
		return refuse(http.StatusUnsupportedMediaType, "a folder is made without content")
	}
	if _, there, err := q.there(q.name, p); err != nil || there {
		return cmpErr(err, refuse(http.StatusMethodNotAllowed, "%s is there already", q.name))
	}
	if err := q.unlocked(changeOf(q.name, false, true)...); err != nil {
		return err
	}
	if err := q.hasFolder(ctx, p); err != nil {
		return err
	}
	delete(q.known, q.name)
	if err := p.tree.Mkdir(ctx, p.rest); err != nil {
		return err
	}
	q.w.WriteHeader(http.StatusCreated)
	return nil
}

// remove removes a file, or a folder with everything in it.
func (q *request) remove() error {
	p, err := q.inTree(q.name, true)
	if err != nil {
		return err
	}
	entry, there, err := q.there(q.name, p)
	if err != nil || !there {
		return cmpErr(err, fs.ErrNotExist)
	}
	if err := q.conditions(entry, true); err != nil {
		return err
	}
	if err := q.unlocked(changeOf(q.name, true, true)...); err != nil {
		return err
	}
	some := &failures{top: q.name}
	some.removeAll(q.r.Context(), p, q.name, entry.Kind == tree.Folder)
	q.known = map[string]tree.Entry{}
	if len(some.list) == 0 {
		q.forget(q.name)
	}
	return q.done(some, http.StatusNoContent)
}

// failures are what could not be done of something that is done to a folder
// and everything in it.
type failures struct {
	top  string
	list []failure
}

type failure struct {
	name   string
	folder bool
	err    error
}

// mostFailures bounds the list: an administrator who sees so many has seen enough.
const mostFailures = 1000

func (f *failures) add(name string, folder bool, err error) {
	if len(f.list) < mostFailures {
		f.list = append(f.list, failure{name, folder, err})
	}
}

// done answers for what was done to a folder and everything in it: when all of
// it could be done, or nothing could because of the folder itself, with one
// status; otherwise with what could not (RFC 4918, section 9.6.1).
func (q *request) done(f *failures, status int) error {
	if len(f.list) == 0 {
		q.w.WriteHeader(status)
		return nil
	}
	if len(f.list) == 1 && f.list[0].name == f.top {
		return f.list[0].err
	}
	m := &dav.MultiStatus{Writer: q.w}
	for _, one := range f.list {
		if err := m.Refused(dav.Href(one.name, one.folder), statusOf(one.err), explain(one.err)); err != nil {
			return nil // whoever asked is gone
		}
	}
	_ = m.Close() // whoever asked may be gone
	return nil
}

// removeAll removes what can be removed, and reports whether all is gone.
func (f *failures) removeAll(ctx context.Context, p place, name string, folder bool) bool {
	if folder {
		type child struct {
			name   string
			folder bool
		}
		var children []child
		for e, err := range p.tree.List(ctx, p.rest, tree.Plain) {
			if errors.Is(err, fs.ErrNotExist) {
				return true
			}
			if err != nil {
				f.add(name, true, err)
				return false
			}
			children = append(children, child{e.Name, e.Kind == tree.Folder})
		}
		all := true
		for _, c := range children {
			below := p
			below.rest = path.Join(p.rest, c.name)
			all = f.removeAll(ctx, below, path.Join(name, c.name), c.folder) && all
		}
		if !all { // what is left says why
			return false
		}
	}
	if err := p.tree.Remove(ctx, p.rest); err != nil && !errors.Is(err, fs.ErrNotExist) {
		f.add(name, folder, err)
		return false
	}
	return true
}

func (q *request) copy() error { return q.transfer(false) }
func (q *request) move() error { return q.transfer(true) }

// target is where a place is on its server.
func (q *request) target(p place) namespace.Target {
	t := q.chosen[p.signpost].target
	if t.Sub = path.Join(t.Sub, p.rest); t.Sub == "." {
		t.Sub = ""
	}
	return t
}

// destination reads where something is to be copied or moved.
func (q *request) destination() (string, error) {
	header := q.r.Header.Get("Destination")
	u, err := url.Parse(header)
	switch {
	case header == "" || err != nil || u.Path == "":
		return "", refuse(http.StatusBadRequest, "a Destination is needed, as the address of what is to be made")
	case u.Host != "" && u.Host != q.r.Host:
		return "", refuse(http.StatusBadGateway, "%s is another server: copy by way of your own machine", u.Host)
	case tree.Reserved(u.Path):
		return "", refuse(http.StatusForbidden, "names that begin with .bspan belong to the service")
	}
	return cleaned(u.Path), nil
}

var errOneAnother = refuse(http.StatusForbidden, "source and destination are the same files, or lie in one another")

// transfer copies or moves a file, or a folder with everything in it.
func (q *request) transfer(moving bool) error {
	ctx := q.r.Context()
	to, err := q.destination()
	if err != nil {
		return err
	}
	a, err := q.inTree(q.name, moving)
	if err != nil {
		return err
	}
	entry, there, err := q.there(q.name, a)
	if err != nil || !there {
		return cmpErr(err, fs.ErrNotExist)
	}
	b, err := q.inTree(to, true)
	if fault.KindOf(err) == fault.NotFound {
		err = errNotHere
	}
	if err != nil {
		return err
	}
	fromKey, toKey := keyOfPath(q.name), keyOfPath(to)
	renames := fromKey == toKey && q.name != to // it is only written in other case
	depth := q.r.Header.Get("Depth")
	switch {
	// Two signposts may lead to the same files: then what goes would be what comes.
	case !(renames && moving) && q.target(a).Overlaps(q.target(b)):
		return errOneAnother
	case depth != "" && depth != "infinity" && (depth != "0" || moving):
		return refuse(http.StatusBadRequest, "Depth %q is not possible here", depth)
	}
	_, taken, err := q.there(to, b)
	if err != nil {
		return err
	}
	if a.tree != b.tree && (b.within(ctx, a) || a.within(ctx, b)) {
		return errOneAnother
	}
	if taken && !renames && q.r.Header.Get("Overwrite") == "F" {
		return refuse(http.StatusPreconditionFailed, "%s is there already", to)
	}
	changes := changeOf(to, true, !taken)
	if moving {
		changes = append(changes, changeOf(q.name, true, true)...)
	}
	if err := q.unlocked(changes...); err != nil {
		return err
	}
	if err := q.hasFolder(ctx, b); err != nil {
		return err
	}
	t := &transfer{q: q, failures: failures{top: q.name}, shallow: depth == "0"}
	if a.tree != b.tree {
		t.into, _ = tree.Identify(ctx, b.tree, ".") // zero where it may not be read
	}
	t.run(ctx, a, b, to, entry.Kind == tree.Folder, moving, renames)
	q.known = map[string]tree.Entry{}
	if len(t.list) == 0 && !renames {
		if err := q.gateway.book.carry(context.WithoutCancel(ctx), fromKey, toKey, !t.shallow, moving); err != nil {
			slog.Warn("properties stayed behind", "from", q.name, "to", to, "error", err)
		}
	}
	return q.done(&t.failures, created(!taken || renames))
}

// transfer is one that is under way.
type transfer struct {
	failures
	q       *request
	shallow bool
	// into is what the destination's signpost leads to, which could lie in what
	// is copied; zero where that shows in the names.
	into tree.Entry
}

// run transfers. A file takes the place of a file at once.
func (t *transfer) run(ctx context.Context, a, b place, to string, folder, moving, renames bool) {
	old, there, err := t.q.there(to, b)
	switch {
	case err != nil:
		t.add(to, false, err)
	case renames || !there || !folder && old.Kind != tree.Folder:
		t.carry(ctx, a, b, folder, moving, renames)
	default:
		t.replace(ctx, a, b, to, old, folder, moving)
	}
}

// carry moves or copies to where nothing is in the way.
func (t *transfer) carry(ctx context.Context, a, b place, folder, moving, renames bool) {
	if moving && a.tree == b.tree {
		if err := a.tree.Rename(ctx, a.rest, b.rest, !folder && !renames); err != nil {
			t.add(t.q.name, folder, err)
		}
		return
	}
	if t.copyAll(ctx, a, b, t.q.name, folder) && moving {
		t.removeAll(ctx, a, t.q.name, folder)
	}
}

// copyAll copies what can be copied, and reports whether all of it was.
func (t *transfer) copyAll(ctx context.Context, a, b place, name string, folder bool) bool {
	if !folder {
		if err := copyFile(ctx, a, b); err != nil {
			t.add(name, false, err)
			return false
		}
		return true
	}
	if err := b.tree.Mkdir(ctx, b.rest); err != nil {
		t.add(name, true, err)
		return false
	}
	if t.shallow {
		return true
	}
	all := true
	for e, err := range a.tree.List(ctx, a.rest, tree.Plain) {
		if err != nil {
			t.add(name, true, err)
			return false
		}
		if tree.Reserved(e.Name) {
			continue
		}
		if same(e, t.into) {
			t.add(path.Join(name, e.Name), true, refuse(http.StatusForbidden, "what is copied would be copied into itself"))
			all = false
			continue
		}
		from, to := a, b
		from.rest, to.rest = path.Join(a.rest, e.Name), path.Join(b.rest, e.Name)
		all = t.copyAll(ctx, from, to, path.Join(name, e.Name), e.Kind == tree.Folder) && all
	}
	return all
}

// copyFile copies content and time. Permissions are those of the new place.
func copyFile(ctx context.Context, a, b place) error {
	content, err := a.tree.Open(ctx, a.rest)
	if err != nil {
		return err
	}
	defer content.Close()
	stream := tree.Stream(ctx, content, 0)
	defer stream.Close()
	e := content.Entry()
	_, err = b.tree.Put(ctx, b.rest, stream, tree.PutOptions{Replace: true, Size: e.Size, SizeKnown: true, Meta: tree.Meta{Modified: e.Modified}})
	return err
}
