// Package client is the Go client of the API. The command line and the tests
// use it; it decodes into the types that the service encodes from.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"mime"
	"net/http"
	"net/url"
	"strings"
	"time"

	"bridgespan/model"
)

// Client talks to one service. Token may be empty for the calls that need none.
type Client struct {
	Base  string // base URL, such as http://127.0.0.1:8600
	Token string
	HTTP  *http.Client // nil means one with a timeout of a minute
}

// IsNotFound reports whether what was asked for is not there.
func IsNotFound(err error) bool {
	var e *Error
	return errors.As(err, &e) && e.Status == http.StatusNotFound
}

// Error is a refusal by the service.
type Error struct{ model.Problem }

func (e *Error) Error() string {
	if e.Remedy == "" {
		return e.Detail
	}
	return e.Detail + "; " + e.Remedy
}

// ErrNoAnswer is wrapped when the service cannot be reached at all.
var ErrNoAnswer = errors.New("the service does not answer")

const prefix = "/api/v1"

// How long an answer is waited for where the caller's context sets no time:
// a document of very many entries takes longer than anything else.
const (
	patience = time.Minute
	// DocumentPatience is the longest that the service may take to begin an answer.
	DocumentPatience = 15 * time.Minute
)

// defaultHTTP bounds how long the beginning of an answer is waited for; what
// comes in a stream may take as long as it takes.
var defaultHTTP = &http.Client{Transport: &http.Transport{Proxy: http.ProxyFromEnvironment, ResponseHeaderTimeout: DocumentPatience}}

func (c *Client) http() *http.Client {
	if c.HTTP != nil {
		return c.HTTP
	}
	return defaultHTTP
}

// request is one call of the API.
type request struct {
	method string
	path   []string // elements, escaped one by one
	query  url.Values
	body   any
	etag   string // If-Match
}

type rehearseKey struct{}

// Rehearse returns a context in which changes are rehearsed: each call that
// would change something returns a *Rehearsed error that tells what.
func Rehearse(ctx context.Context) context.Context {
	return context.WithValue(ctx, rehearseKey{}, true)
}

// asking returns a context in which nothing is rehearsed: what is called changes
// nothing anyway.
func asking(ctx context.Context) context.Context {
	return context.WithValue(ctx, rehearseKey{}, nil)
}

// Rehearsed is the answer to a change that was only rehearsed.
type Rehearsed struct{ model.Rehearsed }

func (r *Rehearsed) Error() string {
	return fmt.Sprintf("rehearsed only: %d changes would be made", len(r.Changes))
}

// do sends a request and decodes the answer into T. It returns the ETag.
func do[T any](ctx context.Context, c *Client, r request) (out T, etag string, err error) {
	rehearse := ctx.Value(rehearseKey{}) != nil && r.method != http.MethodGet
	if rehearse {
		query := url.Values{}
		maps.Copy(query, r.query)
		query.Set("rehearse", "true")
		r.query = query
	}
	if _, set := ctx.Deadline(); !set {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeout(ctx, patience)
		defer cancel()
	}
	response, err := c.send(ctx, r)
	if err != nil {
		return out, "", err
	}
	defer response.Body.Close()
	if rehearse && response.StatusCode == http.StatusOK {
		answer := &Rehearsed{}
		if err := json.NewDecoder(response.Body).Decode(&answer.Rehearsed); err != nil {
			return out, "", fmt.Errorf("the answer of %s cannot be read: %w", c.Base, err)
		}
		return out, "", answer
	}
	if response.StatusCode >= 300 {
		return out, "", problemIn(response)
	}
	if response.StatusCode != http.StatusNoContent {
		if err := json.NewDecoder(response.Body).Decode(&out); err != nil {
			return out, "", fmt.Errorf("the answer of %s cannot be read: %w", c.Base, err)
		}
	}
	return out, response.Header.Get("ETag"), nil
}

func (c *Client) send(ctx context.Context, r request) (*http.Response, error) {
	elements := make([]string, len(r.path))
	for i, e := range r.path {
		elements[i] = url.PathEscape(e)
	}
	address := strings.TrimSuffix(c.Base, "/") + prefix + "/" + strings.Join(elements, "/")
	if len(r.query) > 0 {
		address += "?" + r.query.Encode()
	}
	var body io.Reader
	if r.body != nil {
		text, err := json.Marshal(r.body)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(text)
	}
	request, err := http.NewRequestWithContext(ctx, r.method, address, body)
	if err != nil {
		return nil, err
	}
	if body != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	if c.Token != "" {
		request.Header.Set("Authorization", "Bearer "+c.Token)
	}
	if r.etag != "" {
		request.Header.Set("If-Match", r.etag)
	}
	response, err := c.http().Do(request)
	if err != nil {
		return nil, fmt.Errorf("%w at %s: %w", ErrNoAnswer, c.Base, err)
	}
	return response, nil
}

// text writes what is no JSON.
func (c *Client) text(ctx context.Context, w io.Writer, path ...string) error {
	return c.textOf(ctx, w, nil, path...)
}

// textOf is text of what a query asks for.
func (c *Client) textOf(ctx context.Context, w io.Writer, query url.Values, path ...string) error {
	response, err := c.send(ctx, request{method: http.MethodGet, path: path, query: query})
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode >= 300 {
		return problemIn(response)
	}
	_, err = io.Copy(w, response.Body)
	return err
}

func problemIn(response *http.Response) error {
	e := &Error{}
	kind, _, _ := mime.ParseMediaType(response.Header.Get("Content-Type"))
	if kind == "application/problem+json" && json.NewDecoder(response.Body).Decode(&e.Problem) == nil {
		return e
	}
	e.Status, e.Detail = response.StatusCode, "the service answers "+response.Status
	e.Remedy = "check that the address is that of Bridge Span"
	return e
}

func get[T any](ctx context.Context, c *Client, query url.Values, path ...string) (T, string, error) {
	return do[T](ctx, c, request{method: http.MethodGet, path: path, query: query})
}

// all reads every part of a list.
func all[T any](ctx context.Context, c *Client, path ...string) ([]T, error) {
	return allWith[T](ctx, c, url.Values{"limit": {"1000"}}, path...)
}

// allWith is all of those that a query asks for.
func allWith[T any](ctx context.Context, c *Client, query url.Values, path ...string) ([]T, error) {
	items := []T{}
	for {
		page, _, err := get[model.Page[T]](ctx, c, query, path...)
		if err != nil {
			return nil, err
		}
		items = append(items, page.Items...)
		if page.Next == "" {
			return items, nil
		}
		query.Set("cursor", page.Next)
	}
}

func add[T any](ctx context.Context, c *Client, body any, path ...string) (T, error) {
	out, _, err := do[T](ctx, c, request{method: http.MethodPost, path: path, body: body})
	return out, err
}

// change reads what is there and sends the change with its ETag.
func change[T any](ctx context.Context, c *Client, body any, path ...string) (T, error) {
	_, etag, err := get[T](ctx, c, nil, path...)
	if err != nil {
		var none T
		return none, err
	}
	out, _, err := do[T](ctx, c, request{method: http.MethodPatch, path: path, body: body, etag: etag})
	return out, err
}

// remove reads what is there and removes it with its ETag.
func remove(ctx context.Context, c *Client, query url.Values, path ...string) error {
	_, etag, err := get[any](ctx, c, nil, path...)
	if err != nil {
		return err
	}
	_, _, err = do[any](ctx, c, request{method: http.MethodDelete, path: path, query: query, etag: etag})
	return err
}
