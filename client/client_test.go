package client

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strconv"
	"testing"

	"bridgespan/model"
)

func serve(t *testing.T, handler http.HandlerFunc) *Client {
	t.Helper()
	s := httptest.NewServer(handler)
	t.Cleanup(s.Close)
	return &Client{Base: s.URL + "/", Token: "secret"}
}

func TestRefusals(t *testing.T) {
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer secret" {
			t.Errorf("authorization %q", r.Header.Get("Authorization"))
		}
		w.Header().Set("Content-Type", "application/problem+json; charset=utf-8")
		w.WriteHeader(422)
		fmt.Fprint(w, `{"status":422,"title":"t","detail":"no site is called X","remedy":"list them","errors":[{"field":"site","detail":"no"}]}`)
	})
	_, err := c.Server(t.Context(), "x/y z")
	var e *Error
	if !errors.As(err, &e) || e.Status != 422 || e.Errors[0].Field != "site" || e.Error() != "no site is called X; list them" {
		t.Errorf("error %#v", err)
	}
	strange := serve(t, func(w http.ResponseWriter, _ *http.Request) {
		http.Error(w, "<html>proxy</html>", http.StatusBadGateway)
	})
	if _, err := strange.Sites(t.Context()); !errors.As(err, &e) || e.Status != 502 || e.Remedy == "" {
		t.Errorf("an answer that is not ours: %v", err)
	}
	nobody := &Client{Base: "http://127.0.0.1:1"}
	if _, err := nobody.Sites(t.Context()); !errors.Is(err, ErrNoAnswer) {
		t.Errorf("nobody answers: %v", err)
	}
}

// A change reads first, and sends the ETag of what it read; names are escaped.
func TestChangesAreGuarded(t *testing.T) {
	var sent []string
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		sent = append(sent, r.Method+" "+r.URL.EscapedPath()+" "+r.Header.Get("If-Match"))
		w.Header().Set("ETag", `"7"`)
		_ = json.NewEncoder(w).Encode(model.Site{Name: "a/b", Version: 7})
	})
	note := "n"
	if _, err := c.EditSite(t.Context(), "a/b c", model.EditSite{Note: &note}); err != nil {
		t.Fatal(err)
	}
	if got := fmt.Sprint(sent); got != `[GET /api/v1/sites/a%2Fb%20c  PATCH /api/v1/sites/a%2Fb%20c "7"]` {
		t.Errorf("requests %s", got)
	}
}

func TestAllParts(t *testing.T) {
	c := serve(t, func(w http.ResponseWriter, r *http.Request) {
		at, _ := strconv.Atoi(r.URL.Query().Get("cursor"))
		page := model.Page[model.Site]{Items: []model.Site{{Name: fmt.Sprint(at)}}}
		if at < 4 {
			page.Next = strconv.Itoa(at + 1)
		}
		_ = json.NewEncoder(w).Encode(page)
	})
	if sites, err := c.Sites(t.Context()); err != nil || len(sites) != 5 || sites[4].Name != "4" {
		t.Errorf("sites %+v, %v", sites, err)
	}
}
