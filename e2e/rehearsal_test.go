package e2e

import (
	"errors"
	"net/http"
	"strings"
	"testing"

	"bridgespan/client"
	"bridgespan/core/namespace"
	"bridgespan/e2e/harness"
	"bridgespan/model"
)

// testRehearsal: what is rehearsed is checked as if it were done, told in full,
// and not done.
func testRehearsal(t *testing.T, e *harness.Estate) {
	ctx := client.Rehearse(t.Context())
	before := snapshot(t, e)
	entry, err := e.API.EntryAt(t.Context(), "garden", "store")
	if err != nil {
		t.Fatal(err)
	}
	_, hold := e.API.EditLocation(ctx, "garden", entry, entry.Locations[1].ID, model.EditLocation{State: namespace.Held, Why: "stocktaking"})
	_, move := e.API.EditEntry(ctx, "garden", entry, model.EditEntry{Path: "archive/store"})
	_, site := e.API.AddSite(ctx, model.NewSite{Name: "Marsh"})
	_, leg := e.API.SetLeg(ctx, namespace.Leg{From: "Lowland", To: "Upland", Mbit: 10, RTT: 1, Cost: 7})
	for _, c := range []struct {
		what    string
		err     error
		actions string
		differs string
	}{
		{"hold a location", hold, "location.edit", `elm/store state: "open" → "held"`},
		{"move an entry", move, "entry.add entry.move", `path: "store" → "archive/store"`},
		{"remove an entry", e.API.RemoveEntry(ctx, "garden", entry), "entry.remove", ""},
		{"remove a namespace", e.API.RemoveNamespace(ctx, "garden", true), "namespace.remove", ""},
		{"add a site", site, "site.add", ""},
		{"change a leg", leg, "leg.edit", "cost: 40 → 7"},
	} {
		told := new(client.Rehearsed)
		if !errors.As(c.err, &told) || !told.Rehearsed.Rehearsed {
			t.Errorf("%s: %v", c.what, c.err)
			continue
		}
		var actions, words []string
		for _, change := range told.Changes {
			actions, words = append(actions, change.Action), append(words, change.Words...)
		}
		if strings.Join(actions, " ") != c.actions || c.differs != "" && !strings.Contains(strings.Join(words, "; "), c.differs) {
			t.Errorf("%s: %v, %v", c.what, actions, words)
		}
	}
	refused(t, "what would be refused", e.API.RemoveServer(ctx, "oak", false), http.StatusConflict, "")
	refused(t, "what would be refused with detach", e.API.RemoveServer(ctx, "oak", true), http.StatusConflict, "") // it is the only location of papers/quiet
	told := new(client.Rehearsed)
	if err := e.API.RemoveServer(ctx, "elm", true); !errors.As(err, &told) || len(told.Changes) < 2 || told.Changes[len(told.Changes)-1].Action != "server.remove" {
		t.Errorf("remove a server with its locations: %v", err)
	}
	// What is misspelt, or cannot be rehearsed, is refused and not done.
	for _, address := range []string{"/sites?rehearse=1", "/sites?rehearse=True", "/servers/oak/check?rehearse=true", "/surveys?rehearse=true"} {
		if status := call(t, e.Base+"/api/v1"+address, "POST", e.API.Token); status != http.StatusUnprocessableEntity {
			t.Errorf("%s: %d", address, status)
		}
	}
	if status := call(t, e.Base+"/api/v1/namespaces/garden?withEntries=true&rehearse=yes", "DELETE", e.API.Token); status != http.StatusUnprocessableEntity {
		t.Errorf("a misspelt rehearsal of a removal: %d", status)
	}
	if after := snapshot(t, e); after != before {
		t.Errorf("something was changed:\nbefore %s\nafter  %s", before, after)
	}
}
