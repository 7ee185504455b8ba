package attack

import (
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"bridgespan/e2e/browser"
	"bridgespan/e2e/harness"
	"bridgespan/standin/standintest"
)

// evil are files that act as who opens them, if they may: each says so in the title.
var evil = map[string]string{
	"page.html":  `<!DOCTYPE html><title>harmless</title><script>document.title = "owned by " + document.domain; fetch("/garden/store/owned.txt", {method: "PUT", body: "x", credentials: "include"})</script>`,
	"page.xhtml": `<html xmlns="http://www.w3.org/1999/xhtml"><head><title>harmless</title></head><body><script>document.title = "owned by " + document.domain</script></body></html>`,
	"image.svg":  `<svg xmlns="http://www.w3.org/2000/svg"><title>harmless</title><script>document.title = "owned by " + document.domain</script></svg>`,
	"feed.xml":   `<?xml version="1.0"?><x xmlns:h="http://www.w3.org/1999/xhtml"><h:script>document.title = "owned by " + document.domain</h:script></x>`,
	"notes.txt":  `<!DOCTYPE html><title>harmless</title><script>document.title = "owned"</script>`,
}

// titleOf opens an address, and returns the title of what is shown then.
func titleOf(t *testing.T, tab *browser.Tab, address string) string {
	t.Helper()
	must(t, tab.Open("about:blank"))
	_ = tab.Open(address) // what is saved is not opened
	title, err := browser.Eval[string](tab, "document.title")
	must(t, err)
	return title
}

// What somebody has put into a file runs nothing in the browser of who opens it, and does
// nothing with their credentials.
func testStoredScripts(t *testing.T, e *harness.Estate) {
	b, err := browser.Start(t.Context())
	must(t, err)
	defer b.Close()
	tab, err := b.Tab()
	must(t, err)
	defer tab.Close()
	bare := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		_, _ = w.Write([]byte(evil["page.html"]))
	}))
	defer bare.Close()
	if title := titleOf(t, tab, bare.URL); !strings.HasPrefix(title, "owned") {
		t.Fatalf("the attack does nothing anywhere: %q", title)
	}
	password := standintest.Password("ada")
	gateway, err := url.Parse(e.Gateway)
	must(t, err)
	gateway.User = url.UserPassword("ada", password)
	for name, text := range evil {
		path := "/garden/store/" + name
		if status, _, answer := dav(t, e, "PUT", path, "ada", password, text); status/100 != 2 {
			t.Fatalf("PUT %s: %d %s", name, status, answer)
		}
		_, header, _ := dav(t, e, "GET", path, "ada", password, "")
		for _, want := range [][2]string{{"Content-Security-Policy", "sandbox; default-src 'none'"}, {"Cross-Origin-Resource-Policy", "same-origin"}, {"X-Content-Type-Options", "nosniff"}} {
			if !strings.HasPrefix(header.Get(want[0]), want[1]) {
				t.Errorf("%s: %s is %q", name, want[0], header.Get(want[0]))
			}
		}
		if saved := strings.HasPrefix(header.Get("Content-Disposition"), "attachment"); saved == (name == "notes.txt") {
			t.Errorf("%s: Content-Disposition is %q", name, header.Get("Content-Disposition"))
		}
		if title := titleOf(t, tab, gateway.JoinPath(path).String()); strings.Contains(title, "owned") {
			t.Errorf("%s ran: %q", name, title)
		}
	}
	if status, _, _ := dav(t, e, "GET", "/garden/store/owned.txt", "ada", password, ""); status != http.StatusNotFound {
		t.Errorf("a file was written with the reader's credentials: %d", status)
	}
}
