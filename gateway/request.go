package gateway

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"bridgespan/core/lock"
	"bridgespan/core/namespace"
	"bridgespan/gateway/dav"
	"bridgespan/tree"
)

// request is one request of somebody who is signed in.
type request struct {
	*view
	w    http.ResponseWriter
	r    *http.Request
	name string // the path asked for, cleaned, without a slash at its end; "" for the top
	held lock.If
}

// refusal is an answer that no file server gave.
type refusal struct {
	status    int
	condition string // the rule that was broken (RFC 4918, section 16); "" for none
	text      string
	at        []string // resources that it is about
}

func (e *refusal) Error() string { return e.text }

func refuse(status int, format string, args ...any) error {
	return &refusal{status: status, text: fmt.Sprintf(format, args...)}
}

// cleaned is a path without a slash at its end, "" for the top.
func cleaned(name string) string { return strings.TrimSuffix(path.Clean("/"+name), "/") }

// keyOfPath is the form in which paths are compared: case does not count.
func keyOfPath(name string) string {
	if name == "" {
		return "/"
	}
	return namespace.Key(name)
}

var methods = map[string]func(*request) error{
	http.MethodOptions: (*request).options, http.MethodGet: (*request).get, http.MethodHead: (*request).get, http.MethodPut: (*request).put, http.MethodDelete: (*request).remove,
	"MKCOL": (*request).mkcol, "COPY": (*request).copy, "MOVE": (*request).move, "LOCK": (*request).lock, "UNLOCK": (*request).unlock, "PROPFIND": (*request).propfind, "PROPPATCH": (*request).proppatch,
}

// serve answers a request.
func (q *request) serve() {
	serve, known := methods[q.r.Method]
	if !known {
		q.w.Header().Set("Allow", allowed)
		q.fail(refuse(http.StatusMethodNotAllowed, "%s is not a method of the gateway", q.r.Method))
		return
	}
	err := q.preconditions()
	if err == nil {
		err = serve(q)
	}
	if err != nil {
		q.fail(err)
	}
}

const allowed = "OPTIONS, GET, HEAD, PUT, DELETE, MKCOL, COPY, MOVE, LOCK, UNLOCK, PROPFIND, PROPPATCH"

func (q *request) options() error {
	h := q.w.Header()
	h.Set("Allow", allowed)
	h.Set("DAV", "1, 2")
	h.Set("MS-Author-Via", "DAV") // without it some clients take the server for one without WebDAV
	q.w.WriteHeader(http.StatusOK)
	return nil
}

// fail tells what went wrong, before an answer has begun.
func (q *request) fail(err error) {
	var e *refusal
	if errors.As(err, &e) && e.condition != "" {
		dav.WriteError(q.w, e.status, e.condition, e.text, e.at...)
		return
	}
	status := statusOf(err)
	if status == http.StatusServiceUnavailable {
		q.w.Header().Set("Retry-After", "5")
	}
	http.Error(q.w, explain(err), status)
}

// look resolves a path and describes what is there.
func (q *request) look(name string) (place, tree.Entry, error) {
	p, err := q.resolve(q.r.Context(), name)
	if err != nil {
		return p, tree.Entry{}, err
	}
	e, err := q.stat(q.r.Context(), name, p)
	return p, e, err
}

// state is the state of a resource as an If header asks for it.
func (q *request) state(resource string) (lock.State, error) {
	name := q.name
	if resource != "" {
		u, err := url.Parse(resource)
		if err != nil || u.Host != "" && u.Host != q.r.Host {
			return lock.State{}, nil
		}
		name = cleaned(u.Path)
	}
	var s lock.State
	if _, e, err := q.look(name); err == nil && e.Kind != tree.Folder {
		s.ETag = etag(e)
	}
	key := keyOfPath(name)
	held, err := q.gateway.book.around(q.r.Context(), key)
	for _, l := range held {
		if l.Covers(key) {
			s.Tokens = append(s.Tokens, l.Token)
		}
	}
	return s, err
}

// preconditions lets a request through whose If header holds.
func (q *request) preconditions() (err error) {
	if q.held, err = lock.ParseIf(q.r.Header.Get("If")); err != nil {
		return refuse(http.StatusBadRequest, "%v", err)
	}
	if holds, err := q.held.Holds(q.state); err != nil || !holds {
		return cmpErr(err, refuse(http.StatusPreconditionFailed, "what the If header asks for is not so"))
	}
	return nil
}

func cmpErr(err, otherwise error) error {
	if err != nil {
		return err
	}
	return otherwise
}

// unlocked lets changes through that no lock of somebody else forbids.
func (q *request) unlocked(changes ...lock.Change) error {
	var held []lock.Lock
	for _, c := range changes {
		around, err := q.gateway.book.around(q.r.Context(), c.Key)
		if err != nil {
			return err
		}
		for _, l := range around {
			if !slices.ContainsFunc(held, func(o lock.Lock) bool { return o.Token == l.Token }) {
				held = append(held, l)
			}
		}
	}
	if l, blocked := lock.Blocking(held, q.who.holder(), q.held.Tokens(), changes...); blocked {
		return &refusal{http.StatusLocked, "lock-token-submitted", fmt.Sprintf("%s is locked by %s until %s", l.Path, l.Account, l.Until.UTC().Format(time.RFC3339)), []string{dav.Href(l.Path, false)}}
	}
	return nil
}

// conditions lets a change through whose conditional headers hold (RFC 9110,
// section 13.2.2); e is what is there, if there is true.
func (q *request) conditions(e tree.Entry, there bool) error {
	tag := ""
	if there {
		tag = etag(e)
	}
	failed := refuse(http.StatusPreconditionFailed, "it is not what the condition of the request asks for")
	if header := q.r.Header.Get("If-Match"); header != "" {
		if !there || !matches(header, tag) {
			return failed
		}
	} else if since, err := http.ParseTime(q.r.Header.Get("If-Unmodified-Since")); err == nil && there && e.Modified.Truncate(time.Second).After(since) {
		return failed
	}
	if header := q.r.Header.Get("If-None-Match"); header != "" && there && matches(header, tag) {
		return failed
	}
	return nil
}

// matches reports whether a list of entity tags, or *, names one.
func matches(header, tag string) bool {
	for one := range strings.SplitSeq(header, ",") {
		if one = strings.TrimSpace(one); one == "*" || one == tag {
			return true
		}
	}
	return false
}

// inTree resolves a path that must lie at a location; below is true when the
// location's own top folder is not enough.
func (q *request) inTree(name string, below bool) (place, error) {
	p, err := q.resolve(q.r.Context(), name)
	if err == nil && (p.tree == nil || below && p.rest == ".") {
		err = errNotHere
	}
	return p, err
}

// there describes what is at a place; false when nothing is.
func (q *request) there(name string, p place) (tree.Entry, bool, error) {
	e, err := q.stat(q.r.Context(), name, p)
	if errors.Is(err, fs.ErrNotExist) {
		return e, false, nil
	}
	return e, err == nil, err
}

// hasFolder refuses what is to be made in a folder that is not there.
func (q *request) hasFolder(ctx context.Context, p place) error {
	above, err := p.tree.Stat(ctx, path.Dir(p.rest))
	if errors.Is(err, fs.ErrNotExist) || err == nil && above.Kind != tree.Folder {
		return refuse(http.StatusConflict, "the folder that it is to be in is not there")
	}
	return err
}

// forget drops what was kept at a name that is gone.
func (q *request) forget(name string) {
	if err := q.gateway.book.forget(context.WithoutCancel(q.r.Context()), keyOfPath(name)); err != nil {
		slog.Warn("locks and properties of what is gone are left", "path", name, "error", err)
	}
}
