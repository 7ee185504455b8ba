package api

import (
	"context"
	"crypto/subtle"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
)

const (
	sessionCookie = "bspan_session"
	csrfHeader    = "Bspan-Csrf"
)

type credentialKey struct{}
type placeKey struct{}

// identify finds who asks, by bearer token or session cookie. A change under
// the cookie also needs the CSRF header, which other sites cannot send.
func (a *API) identify(c fiber.Ctx) error {
	ctx := context.WithValue(c.Context(), placeKey{}, a.Proxies.Client(c.RequestCtx().RemoteAddr().String(), c.GetReqHeaders()[fiber.HeaderXForwardedFor]))
	defer c.SetContext(context.Background())
	secret, cookie := credentialOf(c)
	if secret != "" && strings.HasPrefix(c.Path(), Prefix) {
		account, credential, err := a.Access.Holder(ctx, secret, placeIn(ctx))
		switch {
		case err == nil && cookie && changes(c.Method()) && subtle.ConstantTimeCompare([]byte(c.Get(csrfHeader)), []byte(credential.CSRF)) != 1:
			return fault.New(fault.Forbidden, "reload the page and try again", "the header %s is missing or wrong", csrfHeader)
		case err == nil:
			ctx = access.WithActor(context.WithValue(ctx, credentialKey{}, credential), account.User)
		case fault.KindOf(err) != fault.SignIn:
			return err
		}
	}
	c.SetContext(ctx)
	return c.Next()
}

func credentialOf(c fiber.Ctx) (secret string, cookie bool) {
	if token, ok := strings.CutPrefix(c.Get("Authorization"), "Bearer "); ok {
		return token, false
	}
	return c.Cookies(sessionCookie), true
}

func changes(method string) bool {
	return method != http.MethodGet && method != http.MethodHead && method != http.MethodOptions
}

func credentialIn(ctx context.Context) records.Credential {
	credential, _ := ctx.Value(credentialKey{}).(records.Credential)
	return credential
}

func placeIn(ctx context.Context) string {
	place, _ := ctx.Value(placeKey{}).(string)
	return place
}

// Parts of inputs and outputs that many operations share.

type none struct{}

type body[T any] struct{ Body T }

// The parts that are embedded in inputs have exported names: only such are
// found by reflection.

// Sent is the body of a request with parameters.
type Sent[T any] struct{ Body T }

type tagged[T any] struct {
	ETag string `header:"ETag" doc:"Send it as If-Match with a change"`
	Body T
}

func etag(version int64) string { return strconv.Quote(strconv.FormatInt(version, 10)) }

// Guard is the header that every change of something that exists needs.
type Guard struct {
	IfMatch string `header:"If-Match" doc:"ETag of what is to be changed, as last read"`
}

// version is the version that the caller last read.
func (g Guard) version() (int64, error) {
	if g.IfMatch == "" {
		return 0, newProblem(http.StatusPreconditionRequired, "If-Match is needed", "a change needs the header If-Match with the ETag of what it changes", "read it first and send its ETag")
	}
	n, err := strconv.ParseInt(strings.Trim(strings.TrimPrefix(g.IfMatch, "W/"), `"`), 10, 64)
	if err != nil {
		return 0, fault.New(fault.Stale, "read it again and send its ETag", "the If-Match header is not an ETag of this service")
	}
	return n, nil
}

func (a *API) accessRoutes() {
	tags := []string{"Sign-in"}
	route(a, "", huma.Operation{OperationID: "get-setup", Method: "GET", Path: "/setup", Summary: "Whether the first administrator is still to be set up", Tags: tags},
		func(ctx context.Context, _ *none) (*body[model.SetupState], error) {
			needed, err := a.Access.NeedsSetup(ctx)
			return &body[model.SetupState]{model.SetupState{Needed: needed}}, err
		})
	route(a, "", huma.Operation{OperationID: "set-up", Method: "POST", Path: "/setup", Summary: "Make the first administrator", Tags: tags, DefaultStatus: 204},
		func(ctx context.Context, in *body[model.Setup]) (*none, error) {
			return nil, a.Access.Setup(ctx, in.Body.Token, in.Body.Name, in.Body.Password)
		})
	route(a, "", huma.Operation{OperationID: "sign-in", Method: "POST", Path: "/session", Summary: "Start a session of the console", Tags: tags}, a.signIn)
	route(a, model.Viewer, huma.Operation{OperationID: "get-session", Method: "GET", Path: "/session", Summary: "Who is signed in", Tags: tags},
		func(ctx context.Context, _ *none) (*body[model.Session], error) {
			u, _ := access.Actor(ctx)
			credential := credentialIn(ctx)
			return &body[model.Session]{model.Session{User: u, CSRF: credential.CSRF, Expires: credential.Expires}}, nil
		})
	route(a, model.Viewer, huma.Operation{OperationID: "sign-out", Method: "DELETE", Path: "/session", Summary: "End this session or token", Tags: tags},
		func(ctx context.Context, _ *none) (*withCookie[none], error) {
			cookie := a.cookie("", time.Unix(0, 0))
			return &withCookie[none]{SetCookie: cookie}, a.Access.SignOut(ctx, credentialIn(ctx))
		})
	route(a, "", huma.Operation{OperationID: "make-token", Method: "POST", Path: "/tokens", Summary: "Get a token for the command line", Tags: tags, DefaultStatus: 201},
		func(ctx context.Context, in *body[model.NewToken]) (*body[model.Token], error) {
			account, err := a.Access.SignIn(ctx, in.Body.Name, in.Body.Password, placeIn(ctx))
			if err != nil {
				return nil, err
			}
			c, err := a.Access.Issue(ctx, account, "token", in.Body.Label, placeIn(ctx))
			return &body[model.Token]{model.Token{Token: c.Secret, User: account.User, Expires: c.Expires}}, err
		})
	a.userRoutes()
}

type withCookie[T any] struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      T
}

func (a *API) signIn(ctx context.Context, in *body[model.SignIn]) (*withCookie[model.Session], error) {
	account, err := a.Access.SignIn(ctx, in.Body.Name, in.Body.Password, placeIn(ctx))
	if err != nil {
		return nil, err
	}
	c, err := a.Access.Issue(ctx, account, "session", "console", placeIn(ctx))
	return &withCookie[model.Session]{a.cookie(c.Secret, c.Expires), model.Session{User: account.User, CSRF: c.CSRF, Expires: c.Expires}}, err
}

func (a *API) cookie(secret string, expires time.Time) http.Cookie {
	return http.Cookie{Name: sessionCookie, Value: secret, Path: "/", Expires: expires, HttpOnly: true, Secure: a.TLS, SameSite: http.SameSiteStrictMode}
}

// UserPath names a user.
type UserPath struct {
	User string `path:"user" doc:"Name of the user"`
}

func (a *API) userRoutes() {
	tags := []string{"Users"}
	route(a, model.Administrator, huma.Operation{OperationID: "list-users", Method: "GET", Path: "/users", Summary: "List users", Tags: tags},
		func(ctx context.Context, in *PageIn) (*body[model.Page[model.User]], error) {
			return paged(in, a.Access.Users, func(u model.User) string { return u.Name })(ctx)
		})
	route(a, model.Administrator, huma.Operation{OperationID: "get-user", Method: "GET", Path: "/users/{user}", Summary: "Show a user", Tags: tags},
		func(ctx context.Context, in *UserPath) (*tagged[model.User], error) { return a.user(ctx, in.User) })
	change(a, model.Administrator, huma.Operation{OperationID: "add-user", Method: "POST", Path: "/users", Summary: "Add a user", Tags: tags, DefaultStatus: 201},
		func(ctx context.Context, in *body[model.NewUser]) (*tagged[model.User], error) {
			if err := a.Access.AddUser(ctx, in.Body.Name, in.Body.Password, in.Body.Role); err != nil {
				return nil, err
			}
			return a.user(ctx, in.Body.Name)
		})
	change(a, model.Administrator, huma.Operation{OperationID: "edit-user", Method: "PATCH", Path: "/users/{user}", Summary: "Change role or password", Tags: tags},
		func(ctx context.Context, in *struct {
			UserPath
			Guard
			Sent[model.EditUser]
		}) (*tagged[model.User], error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			if err := a.Access.EditUser(ctx, in.User, version, in.Body.Password, in.Body.Role); err != nil {
				return nil, err
			}
			return a.user(ctx, in.User)
		})
	change(a, model.Administrator, huma.Operation{OperationID: "remove-user", Method: "DELETE", Path: "/users/{user}", Summary: "Remove a user", Tags: tags, DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			UserPath
			Guard
		}) (*none, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			return nil, a.Access.RemoveUser(ctx, in.User, version)
		})
}

func (a *API) user(ctx context.Context, name string) (*tagged[model.User], error) {
	u, err := a.Access.User(ctx, name)
	return &tagged[model.User]{etag(u.Version), u}, err
}
