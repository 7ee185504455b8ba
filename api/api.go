// Package api serves the use cases over HTTP: it decodes, calls one use case,
// and encodes. The OpenAPI document comes from the same types, errors follow
// RFC 9457, and every change needs the ETag of what it changes.
package api

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"reflect"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/static"

	"bridgespan/core/fault"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/service/access"
	"bridgespan/service/accounts"
	"bridgespan/service/estate"
	"bridgespan/service/estimates"
	"bridgespan/service/events"
	"bridgespan/service/fronts"
	"bridgespan/service/history"
	"bridgespan/service/jobs"
	"bridgespan/service/lens"
	"bridgespan/service/lint"
	"bridgespan/service/locks"
	"bridgespan/service/mapping"
	"bridgespan/service/migrations"
	"bridgespan/service/movers"
	"bridgespan/service/naming"
	"bridgespan/service/replicas"
	"bridgespan/service/rights"
	"bridgespan/service/shares"
	"bridgespan/service/surveys"
	"bridgespan/service/verify"
)

// Prefix is where this version of the API lives.
const Prefix = "/api/v1"

// Services are the use cases that the API serves.
type Services struct {
	Access     *access.Service
	Estate     *estate.Service
	Naming     *naming.Service
	History    *history.Service
	Events     *events.Hub
	Accounts   *accounts.Service
	Rights     *rights.Service
	Shares     *shares.Service
	Surveys    *surveys.Service
	Verify     *verify.Service
	Lens       *lens.Service
	Lint       *lint.Service
	Mapping    *mapping.Service
	Replicas   *replicas.Service
	Jobs       *jobs.Service
	Estimates  *estimates.Service
	Migrations *migrations.Service
	Locks      *locks.Service
	Fronts     *fronts.Service
	Movers     *movers.Service
}

// Options direct the API.
type Options struct {
	// Console is the built console; nil serves none.
	Console fs.FS
	// TLS says that people come over encrypted connections alone: it marks cookies as for
	// such, and browsers are told to use no others (RFC 6797).
	TLS bool
	// Proxies are trusted to say where a request comes from.
	Proxies access.Proxies
	// Gateway is where people reach the namespaces, for the console to show.
	Gateway string
	// Closing ends the event streams when it is closed.
	Closing <-chan struct{}
	Version string
}

// API is the HTTP side of the service.
type API struct {
	Services
	Options
	app  *fiber.App
	huma huma.API
}

// Bounds of requests, in bytes: the API carries no files. Bodies are read as
// streams, once it is known who sends them, up to what their operation takes.
const (
	bodyLimit     = 1 << 20
	documentLimit = 64 << 20 // a namespace of 100,000 entries has 12 MB
)

// New makes the HTTP application.
func New(s Services, o Options) *API {
	a := &API{Services: s, Options: o}
	a.app = fiber.New(fiber.Config{
		AppName: "bspand", BodyLimit: bodyLimit, StreamRequestBody: true, Immutable: true,
		ReadTimeout: 30 * time.Second, IdleTimeout: 2 * time.Minute,
		ErrorHandler: sendError,
	})
	// A fault of ours in one request must not end the service.
	a.app.Use(func(c fiber.Ctx) error { return guard.Call(c.Next) })
	a.app.Use(a.secureHeaders, a.identify)
	a.app.Get("/healthz", func(c fiber.Ctx) error { return c.JSON(fiber.Map{"state": "alive"}) })
	a.app.Get("/readyz", a.ready)
	a.huma = huma.NewAPI(document(o.Version), adapter{a.app})
	// Answers to rehearsals stand in place of the operations' own.
	a.huma.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[model.Rehearsed](), true, "")
	a.directionsRoute()
	a.accessRoutes()
	a.credentialAndLockRoutes()
	a.siteRoutes()
	a.serverRoutes()
	a.namespaceRoutes()
	a.frontRoutes()
	a.directoryRoutes()
	a.rightsRoutes()
	a.runRoutes()
	a.jobRoutes()
	a.replicaRoutes()
	a.dedupRoutes()
	a.cloudRoutes()
	a.setupRoutes()
	a.migrationRoutes()
	a.moverRoutes()
	a.newsRoutes()
	a.app.Get(Prefix+"/openapi.json", func(c fiber.Ctx) error { return c.JSON(a.huma.OpenAPI()) })
	a.app.Use("/api", func(fiber.Ctx) error {
		return fault.New(fault.NotFound, "the description of the API is at "+Prefix+"/openapi.json", "the API has no such address")
	})
	if o.Console != nil {
		a.serveConsole()
	}
	return a
}

// App is the Fiber application, to be listened with.
func (a *API) App() *fiber.App { return a.app }

// OpenAPI is the document that describes the API.
func (a *API) OpenAPI() ([]byte, error) { return json.MarshalIndent(a.huma.OpenAPI(), "", "  ") }

func document(version string) huma.Config {
	return huma.Config{
		OpenAPI: &huma.OpenAPI{
			OpenAPI: "3.1.0",
			Info:    &huma.Info{Title: "Bridge Span", Version: version, Description: "One namespace over several file servers. Every change needs If-Match with the ETag of what it changes; errors are problem details (RFC 9457)."},
			Components: &huma.Components{
				Schemas: huma.NewMapRegistry("#/components/schemas/", huma.DefaultSchemaNamer),
				SecuritySchemes: map[string]*huma.SecurityScheme{
					"token":   {Type: "http", Scheme: "bearer", Description: "A token of the command line"},
					"session": {Type: "apiKey", In: "cookie", Name: sessionCookie, Description: "A session of the console; changes also need the header " + csrfHeader},
				},
			},
		},
		Formats:       map[string]huma.Format{"application/json": huma.DefaultJSONFormat, "json": huma.DefaultJSONFormat},
		DefaultFormat: "application/json",
	}
}

// route registers an operation, the role that it needs ("" for none), and the
// one place where the errors of use cases become problems.
func route[I, O any](a *API, role model.Role, op huma.Operation, handler func(context.Context, *I) (*O, error)) {
	op.Path = Prefix + op.Path
	if role != "" {
		op.Security = []map[string][]string{{"token": {}}, {"session": {}}}
		op.Description = strings.TrimSpace(op.Description + " Needs the role " + string(role) + ".")
		op.Middlewares = append(huma.Middlewares{a.require(role), a.onlyRehearsable}, op.Middlewares...)
	}
	huma.Register(a.huma, op, func(ctx context.Context, in *I) (*O, error) {
		out, err := handler(ctx, in)
		if answer := new(rehearsed); errors.As(err, &answer) {
			return nil, answer
		}
		if err != nil {
			return nil, asProblem(err)
		}
		return out, nil
	})
}

// require lets through who has a role, before anything of the request is read.
func (a *API) require(role model.Role) func(huma.Context, func(huma.Context)) {
	return func(c huma.Context, next func(huma.Context)) {
		err := access.Require(c.Context(), role)
		if err == nil {
			next(c)
			return
		}
		a.refuse(c, err)
	}
}

// refuse answers a request that its operation does not get to see.
func (a *API) refuse(c huma.Context, err error) {
	p := asProblem(err)
	c.SetStatus(p.Status)
	c.SetHeader("Content-Type", p.ContentType(""))
	if err := a.huma.Marshal(c.BodyWriter(), p.ContentType(""), p); err != nil {
		slog.Warn("a refusal could not be written", "error", err)
	}
}

func (a *API) secureHeaders(c fiber.Ctx) error {
	if a.TLS {
		c.Set("Strict-Transport-Security", "max-age=31536000")
	}
	c.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("Referrer-Policy", "no-referrer")
	if strings.HasPrefix(c.Path(), "/api/") {
		c.Set("Cache-Control", "no-store")
	}
	return c.Next()
}

// sendError answers for errors outside of huma's routes.
func sendError(c fiber.Ctx, err error) error {
	var e *fiber.Error
	var p *problem
	switch {
	case errors.As(err, &e):
		p = newProblem(e.Code, http.StatusText(e.Code), e.Message, "")
	default:
		p = asProblem(err)
	}
	c.Status(p.Status)
	return c.JSON(p.Problem, p.ContentType(""))
}

// ready reports whether requests can be served: whether the database answers.
func (a *API) ready(c fiber.Ctx) error {
	ctx, cancel := context.WithTimeout(c.Context(), 3*time.Second)
	defer cancel()
	if err := a.History.Ready(ctx); err != nil {
		slog.Warn("not ready", "error", err)
		return fault.New(fault.Unavailable, "look at the database server", "the database does not answer")
	}
	return c.JSON(fiber.Map{"state": "ready"})
}

// serveConsole serves the built console: files under their names, and its
// page for every other address, which it routes itself.
func (a *API) serveConsole() {
	page, err := fs.ReadFile(a.Console, "index.html")
	if err != nil {
		page = []byte("<!doctype html><title>Bridge Span</title><p>The console is not built. Run <code>make console</code>.")
	}
	a.app.Get("/assets/*", func(c fiber.Ctx) error {
		c.Set("Cache-Control", "public, max-age=31536000, immutable")
		return c.Next()
	})
	sendPage := func(c fiber.Ctx) error {
		if c.Method() != fiber.MethodGet && c.Method() != fiber.MethodHead {
			return fiber.ErrMethodNotAllowed
		}
		c.Status(http.StatusOK)
		c.Set("Cache-Control", "no-cache")
		c.Type("html", "utf-8")
		return c.Send(page)
	}
	a.app.Get("/", sendPage)
	a.app.Use(static.New("", static.Config{FS: a.Console, NotFoundHandler: sendPage}))
}
