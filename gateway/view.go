package gateway

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/webdav"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// view is the namespaces as one person sees them during one request. It is the
// file system that the WebDAV handler works on. Where a signpost leads is
// decided once, at the first use, and stays for the request.
type view struct {
	gateway *Gateway
	who     person
	method  string
	lists   bool // whether what is in a folder is asked for
	body    *watchedBody

	chosen   map[string]*chosen    // by full path of the signpost
	known    map[string]tree.Entry // by full path: what was seen during this request
	borrowed []*kept
	failed   error // the last error of a tree, for the status of the response
}

// chosen is the location that serves a signpost.
type chosen struct {
	tree   *smb.Tree
	target namespace.Target
	passed []string
}

func newView(g *Gateway, who person, r *http.Request) *view {
	return &view{gateway: g, who: who, method: r.Method, lists: r.Method == "PROPFIND" && r.Header.Get("Depth") != "0" || r.Method == http.MethodGet, body: &watchedBody{ReadCloser: r.Body},
		chosen: map[string]*chosen{}, known: map[string]tree.Entry{}}
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

func (v *view) close() {
	for _, k := range v.borrowed {
		v.gateway.pool.giveBack(k)
	}
}

// note remembers an error of a tree and passes it on.
func (v *view) note(err error) error {
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		v.failed = err
	}
	return err
}

// begin signs the person in where the path leads, and looks at the path there.
func (v *view) begin(ctx context.Context, name string) error {
	place, err := v.resolve(ctx, name)
	missing := fault.KindOf(err) == fault.NotFound
	if err != nil && !missing {
		return err
	}
	if place.tree != nil {
		return v.listable(ctx, name, place)
	}
	// What is there and what is not is told to those alone who sign in.
	if refused := v.signInSomewhere(ctx, place.namespace); refused != nil {
		return refused
	}
	if missing && (v.method == http.MethodPut || v.method == "MKCOL" || v.method == "LOCK") {
		return errNotHere
	}
	return err
}

// listable finds out whether a folder that is about to be listed can be: once
// the answer has begun it is too late to say no.
func (v *view) listable(ctx context.Context, name string, p place) error {
	entry := v.known[strings.TrimSuffix(path.Clean("/"+name), "/")]
	if !v.lists || entry.Kind != tree.Folder {
		return nil
	}
	for _, err := range p.tree.List(ctx, p.rest, tree.Plain) {
		return v.note(err)
	}
	return nil
}

// describe says in the response which location serves it.
func (v *view) describe(header http.Header) {
	for _, c := range v.chosen {
		header.Set(LocationHeader, c.target.String())
		if len(c.passed) > 0 {
			header.Set(PassedOverHeader, strings.Join(c.passed, ", "))
		}
	}
}

// place is what a full path means.
type place struct {
	namespace string // "" for the root, which lists the namespaces
	inside    string
	folder    bool // a folder of the namespace itself, or the root
	children  []string
	signpost  string // full path
	tree      *smb.Tree
	rest      string // name in that tree
}

func (v *view) resolve(ctx context.Context, name string) (place, error) {
	name = strings.TrimSuffix(path.Clean("/"+name), "/")
	if name == "" {
		return v.root(ctx)
	}
	space, inside, err := namespace.Split("path", name)
	if err != nil {
		return place{}, err
	}
	d, err := v.gateway.names.Where(ctx, name, namespace.Traveller{Site: v.gateway.site, Person: v.who.account})
	if err != nil {
		return place{namespace: space}, err
	}
	p := place{namespace: space, inside: inside}
	if d.Signpost == "" {
		p.folder, p.children = true, d.Names
		if d.Hiding {
			p.children, err = v.mayOpen(ctx, name, d.Names)
		}
		return p, err
	}
	c, ok := v.chosen[d.Signpost]
	if !ok {
		if c, err = v.choose(ctx, d); err != nil {
			return place{}, err
		}
		v.chosen[d.Signpost] = c
	}
	p.signpost, p.tree, p.rest = d.Signpost, c.tree, cmp.Or(d.Rest, ".")
	return p, nil
}

// mayOpen leaves out the names in a folder of the namespace that lead to what
// the person cannot open. The file servers decide, as for everything else.
func (v *view) mayOpen(ctx context.Context, folder string, names []string) ([]string, error) {
	var seen []string
	for _, name := range names {
		open, err := v.opens(ctx, path.Join(folder, name))
		if err != nil {
			return nil, err
		}
		if open {
			seen = append(seen, name)
		}
	}
	return seen, nil
}

// opens reports whether a person may open a signpost, or a signpost somewhere
// below a folder. One whose locations do not answer is not hidden: that would
// look as if it were gone.
func (v *view) opens(ctx context.Context, full string) (bool, error) {
	d, err := v.gateway.names.Where(ctx, full, namespace.Traveller{Site: v.gateway.site, Person: v.who.account})
	if err != nil {
		return false, err
	}
	if d.Signpost == "" {
		for _, name := range d.Names {
			if open, err := v.opens(ctx, path.Join(full, name)); open || err != nil {
				return open, err
			}
		}
		return false, nil
	}
	c, err := v.choose(ctx, d)
	switch {
	case errors.Is(err, fs.ErrPermission), errors.Is(err, smb.ErrSignIn):
		return false, nil
	case err != nil:
		return true, nil
	}
	for _, err := range c.tree.List(ctx, ".", tree.Plain) {
		return !errors.Is(err, fs.ErrPermission), nil
	}
	return true, nil // it is empty
}

func (v *view) root(ctx context.Context) (place, error) {
	spaces, err := v.gateway.names.Namespaces(ctx, records.All)
	p := place{folder: true}
	for _, n := range spaces {
		p.children = append(p.children, n.Name)
	}
	return p, err
}

// choose finds the first location in the directions that answers this person.
func (v *view) choose(ctx context.Context, d model.Directions) (*chosen, error) {
	var passed []string
	var refused error
	for _, direction := range v.gateway.stays.arrange(v.who.account, d, time.Now()) {
		// A failing location is tried last of all: it may be well again.
		if direction.State == namespace.Held || direction.ForOthers {
			continue
		}
		t, err := v.open(ctx, direction, cmp.Or(d.Rest, "."), d.Path)
		switch {
		case err == nil:
			v.gateway.stays.led(v.who.account, d, direction.Target(), time.Now())
			return &chosen{t, direction.Target(), passed}, nil
		case errors.Is(err, smb.ErrSignIn):
			refused = err // another server may know this account
			passed = append(passed, direction.Target().String()+" (does not accept this account)")
		case passOver(err):
			passed = append(passed, fmt.Sprintf("%s (%s)", direction.Target(), explain(err)))
			if direction.State == namespace.Open {
				go v.gateway.suspect(context.WithoutCancel(ctx), d.Signpost, direction.Server, err)
			}
		default:
			return nil, err
		}
	}
	if refused != nil {
		return nil, refused
	}
	return nil, nowhere(d, passed)
}

// open opens a location and looks at a path in it, which shows that it
// answers. A session from earlier requests may be broken: then it is made
// again, once.
func (v *view) open(ctx context.Context, direction namespace.Direction, rest, full string) (*smb.Tree, error) {
	for attempt := 1; ; attempt++ {
		k, err := v.gateway.pool.borrow(ctx, direction.Listens, v.who)
		if err != nil {
			return nil, err
		}
		t, err := v.look(ctx, k, direction, rest, full)
		if !errors.Is(err, tree.ErrUnreachable) && !errors.Is(err, context.DeadlineExceeded) {
			v.borrowed = append(v.borrowed, k)
			return t, err
		}
		v.gateway.pool.giveBack(k)
		v.gateway.pool.forget(keyOf(direction.Listens.HostPort, v.who.at(direction.Listens)), k)
		if attempt == 2 || ctx.Err() != nil {
			return nil, err
		}
	}
}

func (v *view) look(ctx context.Context, k *kept, direction namespace.Direction, rest, full string) (*smb.Tree, error) {
	ctx, cancel := context.WithTimeout(ctx, dialMost)
	defer cancel()
	t, err := k.tree(ctx, direction.Share, direction.Sub)
	if err != nil {
		return nil, err
	}
	entry, err := t.Stat(ctx, rest)
	switch {
	case err == nil:
		v.known[strings.TrimSuffix(path.Clean("/"+full), "/")] = entry
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, fs.ErrInvalid), errors.Is(err, tree.ErrKind):
		// The location answers; what the path means there is the handler's business.
	default:
		return nil, err
	}
	return t, nil
}

// signInSomewhere proves the person's password where no location is opened: at
// any server of the namespace that accepts it.
func (v *view) signInSomewhere(ctx context.Context, space string) error {
	servers, err := v.serversOf(ctx, space)
	if err != nil {
		return err
	}
	var refused, unreachable error
	for _, listens := range servers {
		k, err := v.gateway.pool.borrow(ctx, listens, v.who)
		switch {
		case err == nil:
			v.borrowed = append(v.borrowed, k)
			return nil
		case errors.Is(err, smb.ErrSignIn):
			refused = err
		default:
			unreachable = err
		}
	}
	return cmp.Or(refused, unreachable, error(smb.ErrSignIn))
}

// serversOf are the addresses of the servers of a namespace, or of all.
func (v *view) serversOf(ctx context.Context, space string) ([]namespace.Listener, error) {
	spaces := []string{space}
	if space == "" {
		all, err := v.gateway.names.Namespaces(ctx, records.All)
		if err != nil {
			return nil, err
		}
		spaces = nil
		for _, n := range all {
			spaces = append(spaces, n.Name)
		}
	}
	var servers []namespace.Listener
	for _, name := range spaces {
		t, err := v.gateway.names.Tree(ctx, name)
		if err != nil {
			return nil, err
		}
		servers = slices.AppendSeq(servers, maps.Values(t.Servers()))
	}
	slices.SortFunc(servers, func(a, b namespace.Listener) int { return strings.Compare(a.HostPort, b.HostPort) })
	return slices.Compact(servers), nil
}

// errNotHere: the names of the namespace itself are changed by its administrators.
var errNotHere = fmt.Errorf("%w: folders and signposts of the namespace are changed by its administrators", fs.ErrPermission)

// inTree resolves a path that must lie at a location; below is true when the
// location's own top folder is not enough.
func (v *view) inTree(ctx context.Context, name string, below bool) (place, error) {
	p, err := v.resolve(ctx, name)
	if err == nil && (p.tree == nil || below && p.rest == ".") {
		err = errNotHere
	}
	return p, v.note(osError(err))
}

// osError gives "not found" the form that the WebDAV handler looks for.
func osError(err error) error {
	if err != nil && statusOf(err) == http.StatusNotFound {
		return &fs.PathError{Op: "find", Path: "", Err: fs.ErrNotExist}
	}
	return err
}

func (v *view) Mkdir(ctx context.Context, name string, _ os.FileMode) error {
	p, err := v.inTree(ctx, name, true)
	if err != nil {
		return err
	}
	return v.note(p.tree.Mkdir(ctx, p.rest))
}

func (v *view) RemoveAll(ctx context.Context, name string) error {
	p, err := v.inTree(ctx, name, true)
	if err != nil {
		return err
	}
	return v.note(tree.RemoveAll(ctx, p.tree, p.rest))
}

func (v *view) Rename(ctx context.Context, from, to string) error {
	a, err := v.inTree(ctx, from, true)
	if err != nil {
		return err
	}
	b, err := v.inTree(ctx, to, true)
	if err != nil {
		return err
	}
	if a.tree != b.tree {
		return v.note(fmt.Errorf("%w: %s and %s lie at different locations; copy, then remove", fs.ErrPermission, from, to))
	}
	return v.note(a.tree.Rename(ctx, a.rest, b.rest, true))
}

func (v *view) Stat(ctx context.Context, name string) (os.FileInfo, error) {
	p, err := v.resolve(ctx, name)
	if err != nil {
		return nil, v.note(osError(err))
	}
	return v.stat(ctx, name, p)
}

func (v *view) stat(ctx context.Context, name string, p place) (os.FileInfo, error) {
	name = strings.TrimSuffix(path.Clean("/"+name), "/")
	if p.folder {
		return folderInfo(path.Base("/" + name)), nil
	}
	if entry, ok := v.known[name]; ok {
		entry.Name = path.Base(name)
		return info{entry}, nil
	}
	entry, err := p.tree.Stat(ctx, p.rest)
	if err != nil {
		return nil, v.note(err)
	}
	entry.Name = path.Base(name)
	v.known[name] = entry
	return info{entry}, nil
}

func (v *view) OpenFile(ctx context.Context, name string, flag int, _ os.FileMode) (webdav.File, error) {
	p, err := v.resolve(ctx, name)
	if err != nil {
		return nil, v.note(osError(err))
	}
	if flag&os.O_TRUNC != 0 {
		if p.tree == nil || p.rest == "." {
			return nil, v.note(errNotHere)
		}
		return v.create(ctx, name, p)
	}
	about, err := v.stat(ctx, name, p)
	if err != nil {
		return nil, err
	}
	f := &readFile{view: v, ctx: ctx, name: strings.TrimSuffix(path.Clean("/"+name), "/"), place: p, info: about}
	// A file that is asked for is opened now, while a refusal can still be
	// told. The other methods open every entry of a listing and read none.
	if !about.IsDir() && (v.method == http.MethodGet || v.method == http.MethodHead) {
		return f, f.open()
	}
	return f, nil
}

// folderInfo describes a folder or signpost of the namespace.
func folderInfo(name string) os.FileInfo {
	return info{tree.Entry{Name: name, Kind: tree.Folder, Modified: time.Unix(0, 0)}}
}
