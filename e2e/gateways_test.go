package e2e

import (
	"bytes"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"bridgespan/core/namespace"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
)

const exclusive = `<?xml version="1.0"?><D:lockinfo xmlns:D="DAV:"><D:lockscope><D:exclusive/></D:lockscope><D:locktype><D:write/></D:locktype></D:lockinfo>`

// testSeveralGateways: gateways at different sites serve the same names, each
// from its own side; a lock that was taken at one counts at the other, and
// outlives the one at which it was taken; a change reaches both. How soon it does
// is measured by BenchmarkNews.
func testSeveralGateways(t *testing.T, e *harness.Estate) {
	upland := e.Another(t, "Upland")
	ada := person(t, e, "ada")
	there := davClient{t, upland.Gateway, "ada", standintest.Password("ada")}
	ben := davClient{t, upland.Gateway, "ben", standintest.Password("ben")}
	for gate, want := range map[*davClient]string{&ada: "oak/store", &there: "elm/store"} {
		if a := gate.want(200, "GET", ledger, nil); a.header.Get("Bspan-Location") != want || !bytes.Equal(a.body, harness.Ledger) {
			t.Errorf("%s serves %s, want %s", gate.base, a.header.Get("Bspan-Location"), want)
		}
	}
	t.Run("Locks", func(t *testing.T) {
		const path = "/garden/store/two-gates.txt"
		a := ada.want(201, "LOCK", path, strings.NewReader(exclusive), "Timeout", "Second-600")
		token := a.header.Get("Lock-Token")
		there.want(201, "PUT", "/garden/store/beside.txt", strings.NewReader("x"))
		ben.want(423, "PUT", "/garden/store/Two-Gates.TXT", strings.NewReader("ben's")) // the same file, as servers see it
		again := e.Another(t, "Lowland")                                                // as after a restart
		restarted := davClient{t, again.Gateway, "ada", standintest.Password("ada")}
		davClient{t, again.Gateway, "ben", standintest.Password("ben")}.want(423, "DELETE", path, nil)
		restarted.want(409, "UNLOCK", path, nil, "Lock-Token", "<urn:uuid:0>")
		if found := restarted.want(207, "PROPFIND", path, nil, "Depth", "0"); !strings.Contains(string(found.body), strings.Trim(token, "<>")) {
			t.Errorf("the lock is not told: %s", found.body)
		}
		restarted.want(204, "PUT", path, strings.NewReader("ada's"), "If", "("+token+")")
		refreshed := restarted.want(200, "LOCK", path, nil, "If", "("+token+")", "Timeout", "Second-30")
		if !strings.Contains(string(refreshed.body), "Second-30") {
			t.Errorf("refreshed: %s", refreshed.body)
		}
		ben.want(403, "UNLOCK", path, nil, "Lock-Token", token)
		restarted.want(204, "UNLOCK", path, nil, "Lock-Token", token)
		ada.want(204, "DELETE", path, nil)
		there.want(204, "DELETE", "/garden/store/beside.txt", nil)
	})
	t.Run("ChangedFolders", func(t *testing.T) {
		entry, err := e.API.EntryAt(t.Context(), "garden", "store")
		if err != nil {
			t.Fatal(err)
		}
		atElm := entry.Locations[1]
		for _, step := range []struct {
			state namespace.State
			want  string
		}{{namespace.Held, "oak/store"}, {namespace.Open, "elm/store"}} {
			if entry, err = e.API.EditLocation(t.Context(), "garden", entry, atElm.ID, model.EditLocation{State: step.state, Why: "news"}); err != nil {
				t.Fatal(err)
			}
			changed := time.Now()
			for there.want(200, "HEAD", ledger, nil).header.Get("Bspan-Location") != step.want {
				if time.Since(changed) > 10*time.Second {
					t.Fatalf("the gateway at Upland never led to %s", step.want)
				}
			}
		}
	})
}

// testReadFailover: when a server goes away in the middle of a read, the rest
// comes from another location, if that holds the same; otherwise the read breaks
// off, and nobody takes the part for the whole.
func testReadFailover(t *testing.T, e *harness.Estate) {
	content := bytes.Repeat([]byte("Bellis perennis, 17 seeds; "), 4_000_000) // 108 MB: more than what is on its way at any time
	other := bytes.Clone(content)
	copy(other[1000:], "something else")
	modified := time.Date(2026, 4, 1, 12, 0, 0, 0, time.UTC)
	place := func(to tree.Tree, name string, b []byte, at time.Time) {
		t.Helper()
		if _, err := to.Put(t.Context(), name, bytes.NewReader(b), tree.PutOptions{Replace: true, Meta: tree.Meta{Modified: at}}); err != nil {
			t.Fatal(err)
		}
	}
	oak, elm := harness.Tree(t, e.Oak, "store"), harness.Tree(t, e.Elm, "store")
	for name, there := range map[string][]byte{"equal.bin": content, "other.bin": other} {
		place(oak, name, content, modified)
		place(elm, name, there, modified)
	}
	place(oak, "later.bin", content, modified)
	place(elm, "later.bin", content, modified.Add(time.Minute))
	for _, c := range []struct {
		name, ask string
		from      int
		whole     bool
	}{{"equal.bin", "", 0, true}, {"equal.bin", "bytes=1000000-", 1_000_000, true}, {"other.bin", "", 0, false}, {"later.bin", "", 0, false}} {
		t.Run(c.name+c.ask, func(t *testing.T) {
			got, err := readWhileHalting(t, e, "/garden/store/"+c.name, c.ask)
			switch {
			case c.whole && (err != nil || !bytes.Equal(got, content[c.from:])):
				t.Errorf("%d bytes came, want %d, %v", len(got), len(content)-c.from, err)
			case !c.whole && err == nil:
				t.Errorf("%d bytes came as if they were all", len(got))
			case !c.whole && !bytes.Equal(got, content[:len(got)]):
				t.Error("what came is not the beginning of the file")
			}
		})
	}
}

// readWhileHalting reads a file, and halts the server oak after the first bytes.
func readWhileHalting(t *testing.T, e *harness.Estate, path, ask string) ([]byte, error) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), "GET", e.Gateway+path, nil)
	if err != nil {
		t.Fatal(err)
	}
	r.SetBasicAuth("ada", standintest.Password("ada"))
	if ask != "" {
		r.Header.Set("Range", ask)
	}
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer response.Body.Close()
	if from := response.Header.Get("Bspan-Location"); from != "oak/store" {
		t.Fatalf("read from %s: %s", from, response.Status)
	}
	first := make([]byte, 100_000)
	if _, err := io.ReadFull(response.Body, first); err != nil {
		t.Fatal(err)
	}
	e.Oak.Halt()
	rest, err := io.ReadAll(response.Body)
	if restartErr := e.Oak.Restart(); restartErr != nil {
		t.Fatal(restartErr)
	}
	if _, checkErr := e.API.CheckServer(t.Context(), "oak"); checkErr != nil {
		t.Fatal(checkErr)
	}
	return append(first, rest...), err
}

// testReturns stops and starts the preferred server: people come back to it at
// once, or once their directions have run out, as the namespace says.
func testReturns(t *testing.T, e *harness.Estate) {
	const ttl = 4
	entry, err := e.API.EntryAt(t.Context(), "garden", "store")
	if err != nil {
		t.Fatal(err)
	}
	seconds := ttl
	if _, err := e.API.EditEntry(t.Context(), "garden", entry, model.EditEntry{TTL: &seconds}); err != nil {
		t.Fatal(err)
	}
	defer func() { // the other tests lead people back at once
		atOnce, none := "at-once", 0
		_, err := e.API.EditNamespace(t.Context(), "garden", model.EditNamespace{Returns: &atOnce})
		if entry, entryErr := e.API.EntryAt(t.Context(), "garden", "store"); entryErr == nil && err == nil {
			_, err = e.API.EditEntry(t.Context(), "garden", entry, model.EditEntry{TTL: &none})
		}
		if err != nil {
			t.Error(err)
		}
	}()
	for _, returns := range []string{"at-once", "later"} {
		t.Run(returns, func(t *testing.T) {
			if _, err := e.API.EditNamespace(t.Context(), "garden", model.EditNamespace{Returns: &returns}); err != nil {
				t.Fatal(err)
			}
			ada := person(t, e, "ada")
			servedBy := func() string { return ada.want(200, "HEAD", ledger, nil).header.Get("Bspan-Location") }
			for deadline := time.Now().Add(2 * ttl * time.Second); servedBy() != "oak/store" && time.Now().Before(deadline); { // from where another test left them
			}
			e.Oak.Halt()
			led := time.Now()
			if at := servedBy(); at != "elm/store" {
				t.Fatalf("without oak they are at %s", at)
			}
			if err := e.Oak.Restart(); err != nil {
				t.Fatal(err)
			}
			if _, err := e.API.CheckServer(t.Context(), "oak"); err != nil {
				t.Fatal(err)
			}
			back := time.Now()
			at := servedBy()
			if returns == "at-once" && at != "oak/store" {
				t.Errorf("oak is well again, and they are still at %s", at)
			}
			if stays := time.Since(led) < ttl*time.Second; returns == "later" && stays && at != "elm/store" {
				t.Errorf("before their directions run out they are moved to %s", at)
			}
			for servedBy() != "oak/store" {
				if time.Since(back) > 30*time.Second {
					t.Fatal("they never come back")
				}
			}
			if stayed := time.Since(led); returns == "later" && stayed < ttl*time.Second {
				t.Errorf("they came back after %s, before their directions ran out", stayed)
			}
		})
	}
}

// BenchmarkNews measures how long a change takes from one instance to the
// gateway of another; it is to be within a second.
func BenchmarkNews(b *testing.B) {
	e := harness.StartEstate(b)
	upland := e.Another(b, "Upland")
	entry, err := e.API.EntryAt(b.Context(), "garden", "store")
	if err != nil {
		b.Fatal(err)
	}
	servedBy := func() string {
		r, err := http.NewRequestWithContext(b.Context(), "HEAD", upland.Gateway+ledger, nil)
		if err != nil {
			b.Fatal(err)
		}
		r.SetBasicAuth("ada", standintest.Password("ada"))
		response, err := http.DefaultClient.Do(r)
		if err != nil {
			b.Fatal(err)
		}
		response.Body.Close()
		return response.Header.Get("Bspan-Location")
	}
	servedBy() // somebody signed in before
	var longest time.Duration
	steps := []struct {
		state namespace.State
		want  string
	}{{namespace.Held, "oak/store"}, {namespace.Open, "elm/store"}}
	for n := 0; b.Loop(); n++ {
		step := steps[n%2]
		if entry, err = e.API.EditLocation(b.Context(), "garden", entry, entry.Locations[1].ID, model.EditLocation{State: step.state, Why: "news"}); err != nil {
			b.Fatal(err)
		}
		changed := time.Now()
		for servedBy() != step.want {
		}
		longest = max(longest, time.Since(changed))
	}
	b.ReportMetric(longest.Seconds(), "longest-s")
}
