package api

import (
	"bytes"
	"context"
	"crypto/tls"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
)

// adapter lets huma, which makes the OpenAPI document and validates input by
// the handlers' own types, register its routes on Fiber.
type adapter struct{ app *fiber.App }

func (a adapter) Handle(op *huma.Operation, handler func(huma.Context)) {
	path := strings.NewReplacer("{", ":", "}", "").Replace(op.Path)
	a.app.Add([]string{op.Method}, path, func(c fiber.Ctx) error {
		handler(&fiberContext{op: op, c: c})
		return nil
	})
}

func (a adapter) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	response, err := a.app.Test(r)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	defer response.Body.Close()
	for name, values := range response.Header {
		w.Header()[name] = values
	}
	w.WriteHeader(response.StatusCode)
	_, _ = io.Copy(w, response.Body)
}

// fiberContext is a huma.Context over a Fiber one. The app is Immutable, so
// that its strings outlive the request.
type fiberContext struct {
	op     *huma.Operation
	c      fiber.Ctx
	status int
}

func (f *fiberContext) Operation() *huma.Operation { return f.op }
func (f *fiberContext) Context() context.Context   { return f.c.Context() }
func (f *fiberContext) Method() string             { return f.c.Method() }
func (f *fiberContext) Host() string               { return f.c.Host() }
func (f *fiberContext) RemoteAddr() string         { return f.c.RequestCtx().RemoteAddr().String() }
func (f *fiberContext) Query(name string) string   { return f.c.Query(name) }
func (f *fiberContext) Header(name string) string  { return f.c.Get(name) }

func (f *fiberContext) Param(name string) string {
	raw := f.c.Params(name)
	if plain, err := url.PathUnescape(raw); err == nil {
		return plain
	}
	return raw
}

func (f *fiberContext) URL() url.URL {
	u, err := url.Parse(string(f.c.Request().RequestURI()))
	if err != nil {
		return url.URL{}
	}
	return *u
}

func (f *fiberContext) EachHeader(yield func(name, value string)) {
	for name, value := range f.c.Request().Header.All() {
		yield(string(name), string(value))
	}
}

func (f *fiberContext) BodyReader() io.Reader {
	if stream := f.c.Request().BodyStream(); stream != nil {
		return stream
	}
	return bytes.NewReader(f.c.Body())
}

func (f *fiberContext) GetMultipartForm() (*multipart.Form, error) { return f.c.MultipartForm() }

func (f *fiberContext) SetReadDeadline(deadline time.Time) error {
	return f.c.RequestCtx().Conn().SetReadDeadline(deadline)
}

func (f *fiberContext) SetStatus(code int)              { f.status = code; f.c.Status(code) }
func (f *fiberContext) Status() int                     { return f.status }
func (f *fiberContext) SetHeader(name, value string)    { f.c.Set(name, value) }
func (f *fiberContext) AppendHeader(name, value string) { f.c.Append(name, value) }
func (f *fiberContext) BodyWriter() io.Writer           { return f.c.RequestCtx() }
func (f *fiberContext) TLS() *tls.ConnectionState       { return f.c.RequestCtx().TLSConnectionState() }
func (f *fiberContext) Version() huma.ProtoVersion      { return huma.ProtoVersion{Proto: "HTTP/1.1"} }
