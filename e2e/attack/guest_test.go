package attack

import (
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"

	"bridgespan/core/namespace"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/standin/standintest"
)

// dav sends a request to the gateway as somebody, and returns the status and the answer.
func dav(t *testing.T, e *harness.Estate, method, path, account, password, body string, headers ...string) (int, http.Header, string) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), method, e.Gateway+path, strings.NewReader(body))
	must(t, err)
	if account != "" {
		r.SetBasicAuth(account, password)
	}
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	answer, err := http.DefaultClient.Do(r)
	must(t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	must(t, err)
	return answer.StatusCode, answer.Header, string(text)
}

const lockBody = `<?xml version="1.0"?><D:lockinfo xmlns:D="DAV:"><D:lockscope><D:exclusive/></D:lockscope><D:locktype><D:write/></D:locktype></D:lockinfo>`

// A file server that lets everybody in as a guest lets nobody into the gateway.
func testGuestsAtGateway(t *testing.T, e *harness.Estate) {
	open := standintest.OpenFileServer(t, "moor", "store", "quiet")
	harness.Fill(t, open)
	stranger := harness.NewServer("moor", "Upland", open)
	stranger.Account, stranger.Password = "mallory", "anything"
	if _, err := e.API.AddServer(t.Context(), stranger); err == nil || !strings.Contains(err.Error(), "guest") {
		t.Errorf("a server was added with an account that it does not know: %v", err)
	}
	_, err := e.API.AddServer(t.Context(), harness.NewServer("moor", "Upland", open))
	must(t, err)
	_, err = e.API.AddNamespace(t.Context(), model.NewNamespace{Name: "common"})
	must(t, err)
	_, err = e.API.AddEntry(t.Context(), "common", model.NewEntry{Path: "store", Kind: namespace.Signpost, Locations: []model.NewLocation{{Server: "moor", Share: "store", OpenNow: true}}})
	must(t, err)
	for _, password := range []string{"anything", ""} {
		for i, r := range []struct{ method, path, body string }{
			{"PROPFIND", "/", ""}, {"PROPFIND", "/common/", ""}, {"PROPFIND", "/common/store/", ""}, {"GET", "/common/store/a.txt", ""},
			{"PUT", "/common/store/a.txt", "mine"}, {"LOCK", "/common/store/a.txt", lockBody}, {"MKCOL", "/common/store/mine", ""},
		} {
			stranger := fmt.Sprint("mallory", i, len(password)) // somebody new: who is refused often has to wait
			if status, _, text := dav(t, e, r.method, r.path, stranger, password, r.body); status != http.StatusUnauthorized {
				t.Errorf("%s %s as %s: %d %s", r.method, r.path, stranger, status, text)
			}
		}
	}
	if status, _, text := dav(t, e, "PROPFIND", "/common/store/", "ada", standintest.Password("ada"), "", "Depth", "1"); status != http.StatusMultiStatus {
		t.Errorf("somebody whom the server knows: %d %s", status, text)
	}
}
