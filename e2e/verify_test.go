package e2e

import (
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/mapping"
	"bridgespan/core/namespace"
	"bridgespan/core/verify"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/tree"
)

// TestVerification holds a new location back until it was found to hold what
// the others hold, and lets it fail and come back.
func TestVerification(t *testing.T) {
	t.Parallel()
	e := harness.StartEstate(t)
	ctx := t.Context()
	copied := harness.Tree(t, e.Elm, "quiet")
	copyTree(t, harness.Tree(t, e.Oak, "store"), copied)
	const stray = "2026/stray.txt"
	if _, err := copied.Put(ctx, stray, strings.NewReader("left over"), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	entry, err := e.API.AddEntry(ctx, "garden", model.NewEntry{Path: "verified", Kind: namespace.Signpost,
		Locations: []model.NewLocation{{Server: "oak", Share: "store"}, {Server: "elm", Share: "quiet"}}})
	if err != nil {
		t.Fatal(err)
	}
	second := entry.Locations[1].ID
	verified := func(want model.RunState) model.Verification {
		t.Helper()
		v, err := e.API.VerifyLocation(ctx, "garden", entry, second, "")
		for deadline := time.Now().Add(time.Minute); err == nil && !v.Run.State.Ended() && time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
			v, err = e.API.Verification(ctx, v.Run.ID)
		}
		if err != nil || v.Run.State != want {
			t.Fatalf("%+v, %v", v.Run, err)
		}
		return v
	}
	now := func() namespace.Location {
		t.Helper()
		at, err := e.API.EntryAt(ctx, "garden", "verified")
		if err != nil {
			t.Fatal(err)
		}
		return at.Locations[1]
	}
	_, err = e.API.VerifyLocation(ctx, "garden", entry, second, "elm/store")
	refused(t, "against what is no location", err, http.StatusUnprocessableEntity, "against")
	_, err = e.API.VerifyLocation(ctx, "garden", entry, entry.Locations[0].ID, "")
	refused(t, "when no other is open", err, http.StatusConflict, "")
	if v := verified(model.RunDone); v.Opened || v.Counts.Extra != 1 || v.Counts.Unexplained() != 1 || len(v.Differences) == 0 || v.Differences[0].Kind != verify.Extra || v.Differences[0].Path != stray {
		t.Fatalf("with a stray file: %+v", v)
	}
	if l := now(); l.State != namespace.Held || !strings.HasPrefix(l.Why, "verification found 1 difference") || l.Verified != nil {
		t.Errorf("with a stray file it is %+v", l)
	}
	if err := copied.Remove(ctx, stray); err != nil {
		t.Fatal(err)
	}
	if v := verified(model.RunDone); !v.Opened || v.Counts.Unexplained() != 0 || v.Counts.Compared < 3 || v.Differences == nil {
		t.Fatalf("without it: %+v", v)
	}
	if l := now(); l.State != namespace.Open || l.Why != "" || l.Verified == nil {
		t.Errorf("verified it is %+v", l)
	}
	testMappings(t, e)
	testShareGone(t, e)
	testDetach(t, e)
}

// testDetach removes a server that signposts lead to, with its locations.
func testDetach(t *testing.T, e *harness.Estate) {
	ctx := t.Context()
	refused(t, "a server that is led to", e.API.RemoveServer(ctx, "elm", false), http.StatusConflict, "")
	err := e.API.RemoveServer(ctx, "oak", true)
	refused(t, "a server that is the only one for a signpost", err, http.StatusConflict, "")
	if !strings.Contains(err.Error(), "/garden/papers/quiet") {
		t.Errorf("which signposts it is about is not said: %v", err)
	}
	if err := e.API.RemoveServer(ctx, "elm", true); err != nil {
		t.Fatal(err)
	}
	d, err := e.API.WhereNow(ctx, "/garden/verified", "Upland", "")
	if err != nil || !d.Fresh || len(d.Directions) != 1 || d.Directions[0].Server != "oak" {
		t.Errorf("afterwards: %+v, %v", d, err)
	}
	history, err := e.API.History(ctx, "garden", 5)
	if err != nil || history[0].Action != "location.remove" {
		t.Errorf("%+v, %v", history, err)
	}
}

// testMappings hands out drives, and tells what changed since.
func testMappings(t *testing.T, e *harness.Estate) {
	ctx := t.Context()
	ask := model.AskMappings{For: "ada", From: "Upland", Format: mapping.Batch}
	m, err := e.API.Mappings(ctx, "garden", ask, true)
	if err != nil || m.Last != nil || len(m.Changes) != 0 {
		t.Fatalf("%+v, %v", m, err)
	}
	if len(m.Mappings) != 3 || len(m.Closed) != 0 {
		t.Errorf("mappings %+v, left out %q", m.Mappings, m.Closed)
	}
	store := m.Mappings[1]
	if store.Path != "/garden/store" || store.UNC() != `\\`+e.Elm.Address+`\store` || store.Letter != "I" || !strings.Contains(m.Text, "net use I: \""+store.UNC()+"\"") {
		t.Errorf("%+v in\n%s", store, m.Text)
	}
	ben, err := e.API.Mappings(ctx, "garden", model.AskMappings{For: "ben", Format: mapping.Fstab}, false)
	if err != nil || len(ben.Closed) != 1 || !strings.Contains(ben.Closed[0], "/garden/papers/quiet: ben may not open it") {
		t.Errorf("for ben: %+v, left out %q, %v", ben.Mappings, ben.Closed, err)
	}
	entry, err := e.API.EntryAt(ctx, "garden", "store")
	if err != nil || entry.Letter != "I" {
		t.Fatalf("%+v, %v", entry, err)
	}
	taken, other := "h", "m"
	_, err = e.API.EditEntry(ctx, "garden", entry, model.EditEntry{Letter: &taken})
	refused(t, "a letter that is taken", err, http.StatusConflict, "letter")
	if entry, err = e.API.EditEntry(ctx, "garden", entry, model.EditEntry{Letter: &other}); err != nil || entry.Letter != "M" {
		t.Fatalf("%+v, %v", entry, err)
	}
	verified, err := e.API.EntryAt(ctx, "garden", "verified")
	if err != nil {
		t.Fatal(err)
	}
	if verified, err = e.API.EditLocation(ctx, "garden", verified, verified.Locations[1].ID, model.EditLocation{State: namespace.Held}); err != nil {
		t.Fatal(err)
	}
	handouts, err := e.API.Handouts(ctx, "garden")
	if err != nil || len(handouts) != 1 || handouts[0].For != "ada" || strings.Join(handouts[0].Changes, "|") != `/garden/store is M: instead of I:|/garden/verified leads to \\`+e.Oak.Address+`\store instead of \\`+e.Elm.Address+`\quiet` {
		t.Errorf("handed out: %+v, %v", handouts, err)
	}
	if _, err = e.API.EditLocation(ctx, "garden", verified, verified.Locations[1].ID, model.EditLocation{State: namespace.Open}); err != nil {
		t.Fatal(err)
	}
	_, err = e.API.Mappings(ctx, "garden", model.AskMappings{For: "ada", From: "Moon", Format: mapping.CSV}, false)
	refused(t, "a site that is not there", err, http.StatusUnprocessableEntity, "from")
}

// copyTree copies everything with times and permissions.
func copyTree(t *testing.T, from, to tree.Tree) {
	t.Helper()
	ctx := t.Context()
	for f, err := range (&tree.Ordered{Tree: from, Top: ".", Detail: tree.WithDescriptors}).All(ctx) {
		if err == nil && f.Kind == tree.Folder {
			err = tree.MkdirAll(ctx, to, f.Path)
		} else if err == nil {
			var content []byte
			if content, err = tree.ReadFile(ctx, from, f.Path); err == nil {
				_, err = to.Put(ctx, f.Path, strings.NewReader(string(content)), tree.PutOptions{Replace: true, Meta: tree.Meta{Modified: f.Modified}})
			}
		}
		if err == nil {
			err = to.Apply(ctx, f.Path, tree.Meta{Descriptor: f.Descriptor})
		}
		if err != nil {
			t.Fatal(f.Path, err)
		}
	}
}

// testShareGone takes the share from under a location: people are led past it,
// in words, and back when it is there again.
func testShareGone(t *testing.T, e *harness.Estate) {
	ctx := t.Context()
	conf := filepath.Join(e.Elm.Dir, "shares.conf")
	works, err := os.ReadFile(conf)
	if err != nil {
		t.Fatal(err)
	}
	first := func() namespace.Direction {
		t.Helper()
		d, err := e.API.Where(ctx, "/garden/verified", "Upland", "")
		if err != nil {
			t.Fatal(err)
		}
		return d.Directions[0]
	}
	if d := first(); d.Server != "elm" {
		t.Fatalf("at Upland: %+v", d)
	}
	write := func(content []byte) {
		t.Helper()
		// The server sees a change by the time of the file, in whole seconds.
		info, err := os.Stat(conf)
		if err == nil {
			err = os.WriteFile(conf, content, 0o644)
		}
		if err == nil {
			later := info.ModTime().Add(2 * time.Second)
			err = os.Chtimes(conf, later, later)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	write([]byte(strings.Replace(string(works), "[quiet]", "[elsewhere]", 1)))
	found, err := e.API.CheckLocations(ctx, "garden", "verified")
	if err != nil || len(found) != 2 || found[1].Health != namespace.ShareMissing || found[0].Health != namespace.Well {
		t.Errorf("checked: %+v, %v", found, err)
	}
	if d := first(); d.Server != "oak" || d.Reason != "Lowland, behind leg cost 40" {
		t.Errorf("past the missing share: %+v", d)
	}
	write(works)
	// A share that lets nobody write is told apart; people are still led there.
	if _, err := e.API.EditShare(ctx, "elm", "quiet", model.EditShare{ShareSettings: model.ShareSettings{ReadOnly: true}}); err != nil {
		t.Fatal(err)
	}
	if found, err = e.API.CheckLocations(ctx, "garden", "verified"); err != nil || found[1].Health != namespace.ReadOnly {
		t.Errorf("checked while read-only: %+v, %v", found, err)
	}
	if d := first(); d.Server != "elm" || !strings.Contains(d.Reason, "read-only") {
		t.Errorf("while read-only: %+v", d)
	}
	everyone := []model.ShareGrant{{Account: "Everyone", Level: acl.Full}}
	if _, err := e.API.EditShare(ctx, "elm", "quiet", model.EditShare{ShareSettings: model.ShareSettings{Access: everyone}}); err != nil {
		t.Fatal(err)
	}
	if found, err = e.API.CheckLocations(ctx, "garden", "verified"); err != nil || found[1].Health != namespace.Well {
		t.Errorf("checked again: %+v, %v", found, err)
	}
	if d := first(); d.Server != "elm" {
		t.Errorf("back again: %+v", d)
	}
}
