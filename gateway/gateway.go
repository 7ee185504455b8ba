// Package gateway serves the namespaces over WebDAV (RFC 4918).
//
// A person signs in with their account of the file servers, and every location
// is opened as that person, so that the file server itself enforces its
// permissions: the gateway can give nobody more than they have. Where a
// signpost has several locations, the first in the directions that answers
// serves the request, and the response names it.
package gateway

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"strings"
	"time"

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

// Servers is told of servers that do not answer, or not as servers do.
type Servers interface {
	Suspect(ctx context.Context, name string)
	// Distrust has a server left alone, and Quarantined reports whether it is.
	Distrust(name string, why error)
	Quarantined(name string) bool
}

// Gateway is the handler. Close ends the sessions that it holds.
type Gateway struct {
	Options
	names    Names
	servers  Servers
	pool     *pool
	book     *book
	throttle access.Throttle
	stays    stays
}

// Options direct a gateway.
type Options struct {
	// Site is where it stands; "" when it stands nowhere in particular.
	Site string
	// SessionAge is for how long a password is good that a file server took; 0 means 5
	// minutes. Then the server is asked again.
	SessionAge time.Duration
	// Proxies are trusted to say where a request comes from.
	Proxies access.Proxies
	// TLS says that people come over encrypted connections alone.
	TLS bool
}

// New makes a gateway.
func New(ctx context.Context, names Names, servers Servers, state State, o Options) *Gateway {
	g := &Gateway{Options: o, names: names, servers: servers, pool: newPool(servers, cmp.Or(o.SessionAge, sessionAge)), book: newBook(state), stays: newStays(), throttle: access.Throttle{AtOnce: 16, Queue: 100}}
	g.book.load(ctx)
	return g
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
	if g.TLS {
		w.Header().Set("Strict-Transport-Security", "max-age=31536000")
	}
	who, ok := personOf(r)
	if !ok {
		askToSignIn(w, "sign in with your file server account")
		return
	}
	host := g.Proxies.Client(r.RemoteAddr, r.Header.Values("X-Forwarded-For"))
	try, err := g.throttle.Begin(r.Context(), namespace.Key(who.domain)+`\`+namespace.Key(who.account), host, who.password)
	if err != nil {
		w.Header().Set("Retry-After", "5")
		http.Error(w, err.Error(), http.StatusTooManyRequests)
		return
	}
	defer try.Abandon()
	if tree.Reserved(strings.Trim(r.URL.Path, "/")) {
		http.Error(w, "names that begin with .bspan belong to the service", http.StatusNotFound)
		return
	}
	view := newView(g, who, r)
	defer view.close()
	err = view.begin(r.Context(), r.URL.Path)
	switch {
	case errors.Is(err, smb.ErrSignIn):
		try.Failed()
		askToSignIn(w, "no file server here accepts this account and password")
		return
	case err != nil:
		http.Error(w, explain(err), statusOf(err))
		return
	}
	try.Succeeded()
	view.describe(w.Header())
	(&request{view: view, w: w, r: r, name: cleaned(r.URL.Path)}).serve()
}

func askToSignIn(w http.ResponseWriter, text string) {
	w.Header().Set("WWW-Authenticate", `Basic realm="Bridge Span", charset="UTF-8"`)
	http.Error(w, text, http.StatusUnauthorized)
}

// statusOf is the HTTP status for an error of a tree or a use case.
func statusOf(err error) int {
	var own *refusal
	switch {
	case errors.As(err, &own):
		return own.status
	case errors.Is(err, errNotHere):
		return http.StatusForbidden
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
	var own *refusal
	switch {
	case errors.As(err, &f):
		return f.Problem // what to do about it is for administrators
	case errors.As(err, &own):
		return own.text
	case errors.Is(err, errNowhere), errors.Is(err, errNotHere):
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
