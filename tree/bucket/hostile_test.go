package bucket_test

import (
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"bridgespan/tree"
	"bridgespan/tree/bucket"
)

// hostile is a service that says what it likes.
func hostile(t *testing.T, list, get http.HandlerFunc) *bucket.Tree {
	t.Helper()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.Method == http.MethodGet && r.URL.Query().Has("list-type"):
			list(w, r)
		case r.Method == http.MethodGet:
			get(w, r)
		}
	}))
	t.Cleanup(server.Close)
	b, err := bucket.Dial(t.Context(), bucket.Target{Endpoint: strings.TrimPrefix(server.URL, "http://"), Plain: true, Region: "coast-1", Bucket: "files", PathStyle: true, Key: "k", Secret: "a long secret"})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { b.Close() })
	return b
}

// listed is how a listing of the top ends.
func listed(t *testing.T, b *bucket.Tree) (names []string, err error) {
	for e, err := range b.List(t.Context(), ".", tree.Versions) {
		if err != nil {
			return names, err
		}
		if e.Size < 0 {
			t.Errorf("%s has %d bytes", e.Name, e.Size)
		}
		names = append(names, e.Name)
	}
	return names, nil
}

// Whatever a service answers, listings and reads end, and take no more memory than they may.
func TestHostileService(t *testing.T) {
	endless := func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, "<ListBucketResult><Name>")
		for text := strings.Repeat("x", 1<<20); ; {
			if _, err := fmt.Fprint(w, text); err != nil {
				return
			}
		}
	}
	b := hostile(t, endless, func(http.ResponseWriter, *http.Request) {})
	if _, err := listed(t, b); err == nil {
		t.Error("an answer without an end is taken")
	}

	again := func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, "<ListBucketResult><IsTruncated>true</IsTruncated><NextContinuationToken>again</NextContinuationToken></ListBucketResult>")
	}
	b = hostile(t, again, func(http.ResponseWriter, *http.Request) {})
	if _, err := listed(t, b); !errors.Is(err, tree.ErrUntrusted) {
		t.Errorf("a listing without an end: %v", err)
	}

	elsewhere := func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, "<ListBucketResult>")
		for _, key := range []string{"../up", "a/b", "/top", "nul", "..", ".", "fine"} {
			fmt.Fprintf(w, "<Contents><Key>%s</Key><Size>-5</Size></Contents>", key)
		}
		fmt.Fprint(w, "</ListBucketResult>")
	}
	short := func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "1000")
		w.Header().Set("Last-Modified", "Mon, 30 Nov 2026 08:00:00 GMT")
		fmt.Fprint(w, "little")
	}
	b = hostile(t, elsewhere, short)
	names, err := listed(t, b)
	if err != nil || strings.Join(names, " ") != "nul fine" {
		t.Errorf("of names that lead elsewhere are listed %q, %v", names, err)
	}
	if text, err := tree.ReadFile(t.Context(), b, "f"); !errors.Is(err, tree.ErrTorn) {
		t.Errorf("of less than was said is read %q, %v", text, err)
	}
}
