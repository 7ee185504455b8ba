package attack

import (
	"bytes"
	"encoding/json"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/standin/standintest"
)

// Many guesses at once are no more than many in a row, at the service and at the gateway.
func testParallelGuesses(t *testing.T, e *harness.Estate) {
	guesses := map[string]func() int{
		"service": func() int {
			body, _ := json.Marshal(model.SignIn{Name: "guessed", Password: "not this one"})
			answer, err := http.Post(e.Base+"/api/v1/session", "application/json", bytes.NewReader(body))
			if err != nil {
				t.Error(err)
				return 0
			}
			answer.Body.Close()
			return answer.StatusCode
		},
		"gateway": func() int {
			r, _ := http.NewRequestWithContext(t.Context(), "PROPFIND", e.Gateway+"/garden/store/", strings.NewReader(""))
			r.SetBasicAuth("Guessed", "not this one")
			answer, err := http.DefaultClient.Do(r)
			if err != nil {
				t.Error(err)
				return 0
			}
			answer.Body.Close()
			return answer.StatusCode
		},
	}
	for where, guess := range guesses {
		var judged, held atomic.Int64
		var all sync.WaitGroup
		for range 150 {
			all.Go(func() {
				switch status := guess(); status {
				case http.StatusUnauthorized:
					judged.Add(1)
				case http.StatusTooManyRequests:
					held.Add(1)
				default:
					t.Errorf("%s: status %d", where, status)
				}
			})
		}
		all.Wait()
		if judged.Load() > 8 || judged.Load()+held.Load() != 150 { // a wait of a second or two ends meanwhile
			t.Errorf("%s: of 150 guesses at once %d were judged, %d held up", where, judged.Load(), held.Load())
		}
	}
}

// Names of ours are refused as often as they are asked for, and hold nobody up.
func testReservedNames(t *testing.T, e *harness.Estate) {
	password := standintest.Password("ada")
	for range 10 {
		if status, _, _ := dav(t, e, "GET", "/.bspan/x", "ada", password, ""); status != http.StatusNotFound {
			t.Errorf("a name of ours: %d", status)
		}
	}
	if status, _, _ := dav(t, e, "PROPFIND", "/garden/store/", "ada", password, "", "Depth", "0"); status != http.StatusMultiStatus {
		t.Errorf("after that: %d", status)
	}
}

// Names of a megabyte are refused, before anything is kept of them.
func testLongNames(t *testing.T, e *harness.Estate) {
	for range 5 {
		body, err := json.Marshal(model.SignIn{Name: strings.Repeat("x", 900_000), Password: "x"})
		must(t, err)
		answer, err := http.Post(e.Base+"/api/v1/session", "application/json", bytes.NewReader(body))
		must(t, err)
		answer.Body.Close()
		if answer.StatusCode != http.StatusUnprocessableEntity && answer.StatusCode != http.StatusBadRequest {
			t.Errorf("a name of 900,000 letters: %d", answer.StatusCode)
		}
	}
}
