package attack

import (
	"net/http"
	"testing"

	"bridgespan/e2e/harness"
)

// Which namespaces there are is told to those alone who sign in.
func testStrangersLearnNothing(t *testing.T, e *harness.Estate) {
	for _, path := range []string{"/", "/garden/", "/garden/store/", "/garden/nothing/", "/nothing/", "/nothing/at/all", "/garden/papers/"} {
		for i, method := range []string{"PROPFIND", "GET", "HEAD", "OPTIONS", "PUT", "MKCOL", "LOCK", "DELETE"} {
			stranger := "nobody" + string(rune('a'+i))
			if status, _, _ := dav(t, e, method, path, "", "", ""); status != http.StatusUnauthorized {
				t.Errorf("%s %s as nobody: %d", method, path, status)
			}
			if status, _, _ := dav(t, e, method, path, stranger+path, "guessed", ""); status != http.StatusUnauthorized && status != http.StatusTooManyRequests {
				t.Errorf("%s %s as a stranger: %d", method, path, status)
			}
		}
	}
}
