package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/model"
)

// Every kind of fault has a status and a title, and tells its field and remedy.
func TestFaultsBecomeProblems(t *testing.T) {
	for kind := fault.Invalid; kind <= fault.Unavailable; kind++ {
		p := asProblem(fmt.Errorf("wrapped: %w", fault.New(kind, "mend it", "it is broken").At("field")))
		if p.Status < 400 || p.Status > 599 || p.Title == "" || p.Detail != "it is broken" || p.Remedy != "mend it" || p.Errors[0].Field != "field" {
			t.Errorf("kind %d becomes %+v", kind, p)
		}
	}
	// What is not for people does not reach them.
	p := asProblem(errors.New("dial tcp 10.0.0.1: secret"))
	if p.Status != 500 || strings.Contains(p.Detail+p.Remedy, "secret") {
		t.Errorf("an internal error becomes %+v", p)
	}
}

// A value that was sent never comes back in an error: it may be a password.
func TestProblemsHideValues(t *testing.T) {
	err := humaProblem(422, "validation failed", &huma.ErrorDetail{Location: "body.password", Message: "too short", Value: "hunter22"})
	text, _ := json.Marshal(err)
	if strings.Contains(string(text), "hunter22") || !strings.Contains(string(text), `"field":"password"`) {
		t.Errorf("problem %s", text)
	}
}

func TestGuard(t *testing.T) {
	for header, want := range map[string]int64{`"7"`: 7, `W/"8"`: 8, `9`: 9} {
		if got, err := (Guard{header}).version(); err != nil || got != want {
			t.Errorf("%s gives %d, %v", header, got, err)
		}
	}
	var p *problem
	if _, err := (Guard{}).version(); !errors.As(err, &p) || p.Status != http.StatusPreconditionRequired {
		t.Errorf("no header: %v", err)
	}
	if _, err := (Guard{`"abc"`}).version(); fault.KindOf(err) != fault.Stale {
		t.Errorf("a strange header: %v", err)
	}
	if etag(12) != `"12"` {
		t.Errorf("etag %s", etag(12))
	}
}

func TestCursors(t *testing.T) {
	if _, err := (PageIn{Cursor: "!!"}).page(); fault.KindOf(err) != fault.Invalid {
		t.Errorf("a broken cursor: %v", err)
	}
}

// Without a database: what needs no sign-in is served, and the rest refused.
func TestRoutes(t *testing.T) {
	a := New(Services{}, Options{Version: "test"})
	get := func(method, path string) *http.Response {
		t.Helper()
		response, err := a.App().Test(httptest.NewRequest(method, path, nil))
		if err != nil {
			t.Fatal(err)
		}
		return response
	}
	for path, status := range map[string]int{"/healthz": 200, "/api/v1/openapi.json": 200, "/api/v1/sites": 401, "/api/v1/events": 401, "/api/v1/nothing": 404, "/api/v2/sites": 404} {
		response := get("GET", path)
		if response.StatusCode != status {
			t.Errorf("%s: %d, want %d", path, response.StatusCode, status)
		}
		if status >= 400 {
			var p model.Problem
			text, _ := io.ReadAll(response.Body)
			if err := json.Unmarshal(text, &p); err != nil || p.Status != status || p.Detail == "" || !strings.HasPrefix(response.Header.Get("Content-Type"), "application/problem+json") {
				t.Errorf("%s: %s %s, %v", path, response.Header.Get("Content-Type"), text, err)
			}
		}
		for _, header := range []string{"Content-Security-Policy", "X-Content-Type-Options", "Referrer-Policy"} {
			if response.Header.Get(header) == "" {
				t.Errorf("%s lacks %s", path, header)
			}
		}
	}
}

// Every operation says what it does, and every one but the sign-in, and events with a token of their own, needs somebody signed in.
func TestDocument(t *testing.T) {
	public := map[string]bool{"get-setup": true, "set-up": true, "sign-in": true, "make-token": true, "tell-bucket-events": true}
	document := New(Services{}, Options{}).huma.OpenAPI()
	seen := 0
	for path, item := range document.Paths {
		for _, op := range []*huma.Operation{item.Get, item.Post, item.Put, item.Patch, item.Delete} {
			if op == nil {
				continue
			}
			seen++
			if op.Summary == "" || len(op.Tags) == 0 {
				t.Errorf("%s %s says nothing of itself", op.Method, path)
			}
			if (len(op.Security) == 0) != public[op.OperationID] {
				t.Errorf("%s %s: security %v", op.Method, path, op.Security)
			}
			// Shares, groups and attics are a server's own, and runs that ended, sessions and
			// locks do not change: there is no version of ours to be held against.
			ours := !strings.Contains(path, "/shares/") && !strings.Contains(path, "/groups/") && !strings.Contains(path, "/runs/") && !strings.Contains(path, "/attic/") && !strings.Contains(path, "/credentials/") && !strings.Contains(path, "/locks/")
			guarded := ours && strings.Contains(path, "{") && op.Method != "GET" && op.Method != "POST"
			hasGuard := false
			for _, p := range op.Parameters {
				hasGuard = hasGuard || p.Name == "If-Match"
			}
			if guarded && !hasGuard {
				t.Errorf("%s %s changes without If-Match", op.Method, path)
			}
		}
	}
	if seen < 35 || document.OpenAPI != "3.1.0" {
		t.Errorf("%d operations in a document of version %s", seen, document.OpenAPI)
	}
}

// What a finding links to is in the document.
func TestLinksOfFindings(t *testing.T) {
	paths := New(Services{}, Options{}).huma.OpenAPI().Paths
	leads := func(href string) bool {
		parts := strings.Split(href, "/")
		for path := range paths {
			segments := strings.Split(path, "/")
			if slices.EqualFunc(segments, parts, func(s, part string) bool { return s == part || strings.HasPrefix(s, "{") }) {
				return true
			}
		}
		return false
	}
	for _, do := range finding.Dos() {
		href, _, _ := strings.Cut(finding.To(do, "1", "2", "3").Href, "?")
		if !leads(href) {
			t.Errorf("%s links to %s", do, href)
		}
	}
	if leads(Prefix+"/nowhere") || finding.Prefix != Prefix {
		t.Error("any link would do")
	}
}

// Every number that a client may send has bounds in the document, and so they hold before
// any work begins with it.
func TestNumbersHaveBounds(t *testing.T) {
	document := New(Services{}, Options{}).huma.OpenAPI()
	schemas := document.Components.Schemas
	seen := map[*huma.Schema]bool{}
	numbers := 0
	var look func(where string, s *huma.Schema)
	look = func(where string, s *huma.Schema) {
		if s == nil || seen[s] {
			return
		}
		seen[s] = true
		if s.Ref != "" {
			look(strings.TrimPrefix(s.Ref, "#/components/schemas/"), schemas.SchemaFromRef(s.Ref))
		}
		if s.Type == huma.TypeInteger || s.Type == huma.TypeNumber {
			numbers++
			if s.Minimum == nil && s.ExclusiveMinimum == nil || s.Maximum == nil {
				t.Errorf("%s has no least or no greatest value", where)
			}
		}
		look(where+"[]", s.Items)
		for name, property := range s.Properties {
			look(where+"."+name, property)
		}
		if values, ok := s.AdditionalProperties.(*huma.Schema); ok {
			look(where+"{}", values)
		}
		for _, one := range slices.Concat(s.OneOf, s.AnyOf, s.AllOf) {
			look(where, one)
		}
	}
	for path, item := range document.Paths {
		for _, op := range []*huma.Operation{item.Get, item.Post, item.Put, item.Patch, item.Delete} {
			if op == nil {
				continue
			}
			for _, p := range op.Parameters {
				look(op.Method+" "+path+" "+p.Name, p.Schema)
			}
			if op.RequestBody != nil {
				for _, media := range op.RequestBody.Content {
					look(op.Method+" "+path, media.Schema)
				}
			}
		}
	}
	if numbers < 50 {
		t.Errorf("only %d numbers were found", numbers)
	}
}

func TestValidationWords(t *testing.T) {
	for message, want := range map[string]string{
		"expected number <= 90": "must be at most 90", "expected array length >= 2": "must have at least this many items: 2", "expected required property name to be present": "this is missing: name",
		`expected value to be one of "a, b"`: `must be one of "a, b"`, "expected integer": "must be: integer", "unexpected property": "is unknown here", "cannot be read": "cannot be read",
	} {
		if got := validationWords(message); got != want {
			t.Errorf("%s: %q, want %q", message, got, want)
		}
	}
}
