package gateway

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/http"
	"path"
	"slices"
	"strings"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// view is the namespaces as one person sees them during one request. Where a signpost leads is
// decided once, at the first use, and stays for the request.
type view struct {
	gateway *Gateway
	who     person
	method  string
	body    *watchedBody

	chosen   map[string]*chosen    // by full path of the signpost
	known    map[string]tree.Entry // by full path: what was seen during this request
	borrowed []*kept
}

// chosen is the location that serves a signpost.
type chosen struct {
	tree   tree.Tree
	kept   *kept
	target namespace.Target
	passed []string
}

func newView(g *Gateway, who person, r *http.Request) *view {
	return &view{gateway: g, who: who, method: r.Method, body: &watchedBody{ReadCloser: r.Body},
		chosen: map[string]*chosen{}, known: map[string]tree.Entry{}}
}

func (v *view) close() {
	for _, k := range v.borrowed {
		v.gateway.pool.giveBack(k)
	}
}

// begin signs the person in where the path leads, and looks at the path there.
func (v *view) begin(ctx context.Context, name string) error {
	place, err := v.resolve(ctx, name)
	missing := fault.KindOf(err) == fault.NotFound
	if err != nil && !missing {
		return err
	}
	if place.tree != nil {
		return nil
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
	tree      tree.Tree
	rest      string // name in that tree
	// directions are those that led there, below a signpost.
	directions model.Directions
}

func (v *view) resolve(ctx context.Context, name string) (place, error) {
	name = cleaned(name)
	if name == "" {
		return v.root(ctx)
	}
	space, inside, err := namespace.Split("path", name)
	if err != nil {
		return place{}, err
	}
	d, err := v.gateway.names.Where(ctx, name, namespace.Traveller{Site: v.gateway.Site, Person: v.who.account})
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
	p.signpost, p.directions, p.tree, p.rest = d.Signpost, d, c.tree, cmp.Or(d.Rest, ".")
	return p, ownName(ctx, c.tree, p.rest)
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
	d, err := v.gateway.names.Where(ctx, full, namespace.Traveller{Site: v.gateway.Site, Person: v.who.account})
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
		t, k, err := v.open(ctx, direction, cmp.Or(d.Rest, "."), d.Path)
		switch {
		case err == nil:
			v.gateway.stays.led(v.who.account, d, direction.Target(), time.Now())
			return &chosen{t, k, direction.Target(), passed}, nil
		case errors.Is(err, smb.ErrSignIn):
			refused = err // another server may know this account
			passed = append(passed, direction.Target().String()+" (does not accept this account)")
		case passOver(err):
			passed = append(passed, fmt.Sprintf("%s (%s)", direction.Target(), explain(err)))
			if direction.State == namespace.Open {
				guard.Go(func() { v.gateway.suspect(context.WithoutCancel(ctx), d.Signpost, direction.Server, err) })
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
func (v *view) open(ctx context.Context, direction namespace.Direction, rest, full string) (tree.Tree, *kept, error) {
	for attempt := 1; ; attempt++ {
		k, err := v.gateway.pool.borrow(ctx, direction.Listens, v.who)
		if err != nil {
			return nil, nil, err
		}
		t, err := v.lookAt(ctx, k, direction, rest, full)
		if !errors.Is(err, tree.ErrUnreachable) && !errors.Is(err, context.DeadlineExceeded) {
			v.borrowed = append(v.borrowed, k)
			return t, k, err
		}
		v.gateway.pool.giveBack(k)
		v.gateway.pool.forget(keyOf(direction.Listens, v.who), k)
		if attempt == 2 || ctx.Err() != nil {
			return nil, nil, err
		}
	}
}

func (v *view) lookAt(ctx context.Context, k *kept, direction namespace.Direction, rest, full string) (tree.Tree, error) {
	ctx, cancel := context.WithTimeout(ctx, dialMost)
	defer cancel()
	t, err := k.tree(ctx, direction.Share, direction.Sub)
	if err != nil {
		return nil, err
	}
	entry, err := t.Stat(ctx, rest)
	switch {
	case err == nil:
		v.known[cleaned(full)] = entry
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
	if fault.KindOf(err) == fault.NotFound { // which namespaces there are is not for everybody, too
		servers, err = v.serversOf(ctx, "")
	}
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

// stat describes what is at a place.
func (v *view) stat(ctx context.Context, name string, p place) (tree.Entry, error) {
	name = cleaned(name)
	if p.folder {
		return folderEntry(path.Base("/" + name)), nil
	}
	entry, ok := v.known[name]
	if !ok {
		var err error
		if entry, err = p.tree.Stat(ctx, p.rest); err != nil {
			return entry, err
		}
		v.known[name] = entry
	}
	entry.Name = path.Base(name)
	return entry, nil
}
