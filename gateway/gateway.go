// Package gateway serves the namespaces over WebDAV (RFC 4918).
//
// A person signs in with their account of the file servers, and every location
// is opened as that person, so that the file server itself enforces its
// permissions: the gateway can give nobody more than they have. Where a
// signpost has several locations, the first in the directions that answers
// serves the request, and the response names it.
package gateway

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"golang.org/x/net/webdav"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// Headers of responses.
const (
	// LocationHeader names the location that served the request.
	LocationHeader = "Bspan-Location"
	// PassedOverHeader names the locations before it that did not answer, and why.
	PassedOverHeader = "Bspan-Passed-Over"
)

// Names gives the namespaces and their directions.
type Names interface {
	Namespaces(ctx context.Context, page records.Page) ([]model.Namespace, error)
	Where(ctx context.Context, path string, who namespace.Traveller) (model.Directions, error)
	Tree(ctx context.Context, name string) (*namespace.Tree, error)
	// LookSoon is told of a signpost whose locations should be looked at soon.
	LookSoon(ctx context.Context, path string)
}

// Servers is told of servers that do not answer.
type Servers interface {
	Suspect(ctx context.Context, name string)
}

// Gateway is the handler. Close ends the sessions that it holds.
type Gateway struct {
	names    Names
	servers  Servers
	site     string
	pool     *pool
	locks    webdav.LockSystem
	throttle access.Throttle
	stays    stays
}

// New makes a gateway that stands at site ("" when it stands nowhere in particular).
func New(names Names, servers Servers, site string) *Gateway {
	return &Gateway{names: names, servers: servers, site: site, pool: newPool(), locks: webdav.NewMemLS(), stays: newStays()}
}

// Close ends the sessions with file servers.
func (g *Gateway) Close() { g.pool.close() }

// suspect says that a location could not be used: because of its server, or of
// the share.
func (g *Gateway) suspect(ctx context.Context, signpost, server string, err error) {
	if errors.Is(err, smb.ErrNoShare) {
		g.names.LookSoon(ctx, signpost)
		return
	}
	g.servers.Suspect(ctx, server)
}

// person is who signed in, with what the file servers want to see.
type person struct{ domain, account, password string }

// personOf reads the Basic credentials (RFC 7617), with DOMAIN\account understood.
func personOf(r *http.Request) (person, bool) {
	account, password, ok := r.BasicAuth()
	if !ok || account == "" {
		return person{}, false
	}
	if domain, name, found := strings.Cut(account, `\`); found {
		return person{domain, name, password}, true
	}
	return person{"", account, password}, true
}

func (g *Gateway) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("X-Content-Type-Options", "nosniff")
	who, ok := personOf(r)
	if !ok {
		askToSignIn(w, "sign in with your file server account")
		return
	}
	host, _, _ := net.SplitHostPort(r.RemoteAddr)
	key := who.account + "\x00" + host
	if err := g.throttle.Allow(key, time.Now()); err != nil {
		w.Header().Set("Retry-After", "5")
		http.Error(w, err.Error(), http.StatusTooManyRequests)
		return
	}
	if destination := r.Header.Get("Destination"); destination != "" && tree.Reserved(strings.Trim(pathOf(destination), "/")) || tree.Reserved(strings.Trim(r.URL.Path, "/")) {
		http.Error(w, "names that begin with .bspan belong to the service", http.StatusNotFound)
		return
	}
	view := newView(g, who, r)
	defer view.close()
	err := view.begin(r.Context(), r.URL.Path)
	switch {
	case errors.Is(err, smb.ErrSignIn):
		g.throttle.Failed(key, time.Now())
		askToSignIn(w, "no file server here accepts this account and password")
		return
	case err != nil:
		status := statusOf(err)
		http.Error(w, explain(err), status)
		return
	}
	g.throttle.Succeeded(key)
	view.describe(w.Header())
	if view.browse(w, r) {
		return
	}
	r.Body = view.body
	(&webdav.Handler{FileSystem: view, LockSystem: g.locks}).ServeHTTP(&statusWriter{ResponseWriter: w, view: view}, r)
}

func askToSignIn(w http.ResponseWriter, text string) {
	w.Header().Set("WWW-Authenticate", `Basic realm="Bridge Span", charset="UTF-8"`)
	http.Error(w, text, http.StatusUnauthorized)
}

// pathOf is the path of a Destination header, which may be a whole URL.
func pathOf(destination string) string {
	u, err := url.Parse(destination)
	if err != nil {
		return destination
	}
	return u.Path
}

// statusOf is the HTTP status for an error of a tree or a use case.
func statusOf(err error) int {
	switch {
	case errors.Is(err, fs.ErrPermission):
		return http.StatusForbidden
	case errors.Is(err, fs.ErrExist):
		return http.StatusMethodNotAllowed
	case errors.Is(err, fs.ErrNotExist), fault.KindOf(err) == fault.NotFound:
		return http.StatusNotFound
	case errors.Is(err, fs.ErrInvalid), fault.KindOf(err) == fault.Invalid:
		return http.StatusBadRequest
	case errors.Is(err, tree.ErrInUse):
		return http.StatusLocked
	case errors.Is(err, tree.ErrNoSpace):
		return http.StatusInsufficientStorage
	case errors.Is(err, tree.ErrUnreachable), errors.Is(err, errNowhere), fault.KindOf(err) == fault.Unavailable, errors.Is(err, context.DeadlineExceeded):
		return http.StatusServiceUnavailable
	case errors.Is(err, tree.ErrTorn), errors.Is(err, context.Canceled):
		return http.StatusBadRequest // the sender went away
	}
	return http.StatusInternalServerError
}

// explain says in words what a person can be told of an error.
func explain(err error) string {
	var f *fault.Error
	switch {
	case errors.As(err, &f):
		return f.Error()
	case errors.Is(err, errNowhere):
		return err.Error()
	case statusOf(err) == http.StatusInternalServerError:
		slog.Error("a gateway request failed", "error", err)
		return "something went wrong in the service; its log says why"
	}
	for _, known := range []error{fs.ErrPermission, fs.ErrExist, fs.ErrNotExist, fs.ErrInvalid, tree.ErrInUse, tree.ErrNoSpace, tree.ErrTorn, tree.ErrUnreachable} {
		if errors.Is(err, known) {
			return known.Error()
		}
	}
	return http.StatusText(statusOf(err))
}

// statusWriter corrects what the WebDAV handler makes of errors: it knows few
// of them and calls most of the rest "not found".
type statusWriter struct {
	http.ResponseWriter
	view     *view
	begun    bool
	replaced bool // what follows is dropped
}

func (s *statusWriter) WriteHeader(status int) {
	if s.begun { // an error in the middle of an answer cannot be told any more
		s.replaced = true
		return
	}
	s.begun = true
	if err := s.view.failed; err != nil && status >= 400 && status != http.StatusPreconditionFailed && status != http.StatusLocked {
		if better := statusOf(err); better != status {
			s.replaced = true
			http.Error(s.ResponseWriter, explain(err), better)
			return
		}
	}
	s.ResponseWriter.WriteHeader(status)
}

func (s *statusWriter) Write(p []byte) (int, error) {
	if s.replaced {
		return len(p), nil
	}
	s.begun = true
	return s.ResponseWriter.Write(p)
}

// ReadFrom takes a file's content in large pieces, where http.ServeContent
// would copy it in small ones.
func (s *statusWriter) ReadFrom(r io.Reader) (int64, error) {
	if s.replaced {
		return io.Copy(io.Discard, r)
	}
	if limited, ok := r.(*io.LimitedReader); ok {
		if f, ok := limited.R.(*readFile); ok {
			n, err := f.copyTo(s.ResponseWriter, limited.N)
			limited.N -= n
			return n, err
		}
	}
	return io.Copy(s.ResponseWriter, r)
}

// Unwrap serves http.ResponseController.
func (s *statusWriter) Unwrap() http.ResponseWriter { return s.ResponseWriter }

// errNowhere: a signpost has no location that people are led to now.
var errNowhere = errors.New("no location answers")

func nowhere(d model.Directions, passed []string) error {
	if len(passed) == 0 {
		for _, direction := range d.Directions {
			passed = append(passed, direction.Target().String()+" ("+direction.Reason+")")
		}
	}
	return fmt.Errorf("%w for %s: %s", errNowhere, d.Signpost, strings.Join(passed, ", "))
}
