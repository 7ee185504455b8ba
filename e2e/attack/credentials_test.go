package attack

import (
	"bufio"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/standin/standintest"
)

// Who is signed in sees and ends what is theirs; administrators see and end all. What has
// ended is refused at once, and hears no more.
func testSignInsEnd(t *testing.T, e *harness.Estate) {
	robin, wren := signInAs(t, e, "robin", model.Viewer), signInAs(t, e, "dunnock", model.Viewer)
	own, err := robin.Credentials(t.Context(), "", false)
	must(t, err)
	if len(own) != 1 || own[0].User != "robin" || !own[0].Current || own[0].Kind != "token" || own[0].Address != "127.0.0.1" || time.Since(own[0].Used) > time.Hour {
		t.Errorf("robin holds %+v", own)
	}
	for _, ask := range []func() error{
		func() error { _, err := wren.Credentials(t.Context(), "robin", false); return err },
		func() error { _, err := wren.Credentials(t.Context(), "", true); return err },
		func() error { return wren.EndCredential(t.Context(), own[0].ID) },
		func() error { _, err := wren.Locks(t.Context(), ""); return err },
	} {
		if err := ask(); err == nil {
			t.Error("a viewer sees or ends what is not theirs")
		}
	}
	stream := listenAs(t, e, robin.Token)
	all, err := e.API.Credentials(t.Context(), "", true)
	must(t, err)
	if !slices.ContainsFunc(all, func(c model.Credential) bool { return c.ID == own[0].ID }) {
		t.Errorf("all are %+v", all)
	}
	must(t, e.API.EndCredential(t.Context(), own[0].ID))
	if _, err := robin.Session(t.Context()); err == nil {
		t.Error("a token that has ended is taken")
	}
	select {
	case <-stream:
	case <-time.After(5 * time.Second):
		t.Error("who may not hear goes on hearing")
	}
	if changes, err := e.API.Changes(t.Context(), 5); err != nil || !slices.ContainsFunc(changes, func(c model.Change) bool { return c.Action == "token.end" && strings.Contains(c.Subject, "robin") }) {
		t.Errorf("the changes are %+v, %v", changes, err)
	}
}

// listenAs reads the stream of events; the channel is closed when the service ends it.
func listenAs(t *testing.T, e *harness.Estate, token string) <-chan struct{} {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, e.Base+"/api/v1/events", nil)
	must(t, err)
	r.Header.Set("Authorization", "Bearer "+token)
	answer, err := http.DefaultClient.Do(r)
	must(t, err)
	t.Cleanup(func() { answer.Body.Close() })
	lines := bufio.NewReader(answer.Body)
	_, err = lines.ReadString('\n')
	must(t, err)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for {
			if _, err := lines.ReadString('\n'); err != nil {
				return
			}
		}
	}()
	return ended
}

// A lock that is in the way is found and ended by an administrator.
func testLocksAreEnded(t *testing.T, e *harness.Estate) {
	const file = "/garden/store/locked.txt"
	if status, _, text := dav(t, e, "LOCK", file, "ada", standintest.Password("ada"), lockBody); status != http.StatusCreated {
		t.Fatalf("ada locks: %d %s", status, text)
	}
	put := func() int {
		status, _, _ := dav(t, e, "PUT", file, "ben", standintest.Password("ben"), "mine")
		return status
	}
	if status := put(); status != http.StatusLocked {
		t.Errorf("ben writes over ada's lock: %d", status)
	}
	locks, err := e.API.Locks(t.Context(), "locked.txt")
	must(t, err)
	if len(locks) != 1 || locks[0].Path != file || locks[0].Account != "ada" || locks[0].Shared || time.Until(locks[0].Until) <= 0 {
		t.Fatalf("the locks are %+v", locks)
	}
	if none, err := e.API.Locks(t.Context(), "another"); err != nil || len(none) > 0 {
		t.Errorf("a filter lets through %+v, %v", none, err)
	}
	must(t, e.API.EndLock(t.Context(), locks[0].ID))
	if status := put(); status != http.StatusNoContent && status != http.StatusForbidden {
		t.Errorf("after the lock was ended ben writes: %d", status)
	}
	if err := e.API.EndLock(t.Context(), locks[0].ID); err == nil {
		t.Error("a lock ends twice")
	}
}
