package e2e

import (
	"errors"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"bridgespan/client"
	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/standin/fileserver"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
)

// TestReplicaMembers lets places come to a set, move and leave it, while the
// others stay as they are.
func TestReplicaMembers(t *testing.T) {
	t.Parallel()
	e := harness.StartEstate(t)
	api, ctx := e.API, t.Context()
	g := &gardenSet{T: t, e: e, trees: map[string]tree.Tree{"oak": harness.Tree(t, e.Oak, "store"), "elm": harness.Tree(t, e.Elm, "store")}}
	never := model.NewReplicaSet{Name: "beds", Calendar: "off", Publish: "/garden/kept/beds", Replicas: []model.NewReplica{{Server: "oak", Share: "store"}, {Server: "elm", Share: "store"}}}
	if _, err := api.CreateReplicaSet(ctx, model.NewReplicaSet{Name: "beds", Publish: "nowhere", Replicas: never.Replicas}, nil); err == nil {
		t.Error("a set was published nowhere")
	}
	if sets, err := api.ReplicaSets(ctx); err != nil || len(sets) != 0 {
		t.Errorf("what failed left %+v, %v", sets, err)
	}
	createPlanned(g, never)
	entry, err := api.EntryAt(ctx, "garden", "kept/beds")
	if err != nil || len(entry.Locations) != 2 || entry.Locations[0].State != namespace.Open || entry.Locations[1].State != namespace.Held {
		t.Errorf("published as %+v, %v", entry, err)
	}
	g.await("a look at both", func(s model.ReplicaSet) bool { return s.Replicas[0].Scanned && s.Replicas[1].Scanned })
	// Before anything was carried, the other one can be the seed.
	g.write("elm", "elm's own.txt", "elm had this")
	if _, err := api.EditReplica(ctx, "beds", "elm", model.EditReplica{Seed: true}); err != nil {
		t.Fatal(err)
	}
	always := "full"
	if _, err := api.EditReplicaSet(ctx, "beds", model.EditReplicaSet{Calendar: &always}); err != nil {
		t.Fatal(err)
	}
	set := g.await("the first fill from elm", steady)
	if !set.Replicas[1].Seed || g.text("oak", "elm's own.txt") != "elm had this" {
		t.Errorf("filled from elm: %+v", set.Replicas)
	}
	_, err = api.EditReplica(ctx, "beds", "oak", model.EditReplica{Seed: true})
	refused(t, "another seed after the first fill", err, http.StatusConflict, "")
	testMembersChange(g)
	testQuotas(g, api)
}

// createPlanned makes a set as it was planned, when it had a file of 2.5 GiB: its intakes
// may hold as much as the plan has worked out.
func createPlanned(g *gardenSet, asked model.NewReplicaSet) {
	g.Helper()
	large := filepath.Join(g.e.Oak.SharePath("store"), "film.mov")
	f, err := os.Create(large)
	if err == nil {
		err = errors.Join(f.Truncate(5<<29), f.Close())
	}
	if err != nil {
		g.Fatal(err)
	}
	if p := planned(g.T, g.e.API, asked); p.Intake != 3<<30 {
		g.Errorf("of a file of 2.5 GiB the plan says %+v", p)
	}
	if err := os.Remove(large); err != nil {
		g.Fatal(err)
	}
	asked.Anyway = true // its calendar lets nothing pass
	if _, err := g.e.API.CreateReplicaSet(g.Context(), asked, nil); err != nil {
		g.Fatal(err)
	}
	set, err := g.e.API.ReplicaSet(g.Context(), asked.Name)
	if err != nil || set.Replicas[0].IntakeQuota != 3<<30 || set.Replicas[1].IntakeQuota != 3<<30 {
		g.Errorf("its intakes are not those of the plan: %+v, %v", set.Replicas, err)
	}
}

func testMembersChange(g *gardenSet) {
	g.Helper()
	api, ctx := g.e.API, g.Context()
	_, err := api.AddReplica(ctx, "beds", model.NewReplica{Server: "elm", Share: "store", Sub: "2026"})
	refused(g.T, "a place inside another one", err, http.StatusUnprocessableEntity, "sub")
	_, err = api.DropReplica(ctx, "beds", "oak")
	refused(g.T, "one of two", err, http.StatusConflict, "")
	quiet := model.NewReplica{Name: "copy", Server: "elm", Share: "quiet", Sub: "copies"}
	if _, err := api.AddReplica(client.Rehearse(ctx), "beds", quiet); err == nil {
		g.Error("a rehearsal was carried out")
	}
	carried := g.await("rest", steady).Lanes[0].Carried.Files
	if _, err := api.AddReplica(ctx, "beds", quiet); err != nil {
		g.Fatal(err)
	}
	set := g.await("a third replica", func(s model.ReplicaSet) bool { return len(s.Replicas) == 3 && s.Replicas[2].Filled && steady(s) })
	if set.Replicas[2].IntakeQuota != set.Replicas[0].IntakeQuota {
		g.Errorf("the new one's intake may hold %d", set.Replicas[2].IntakeQuota)
	}
	if len(set.Lanes) != 6 || set.Lanes[0].Carried.Files != carried {
		g.Errorf("with a third one: %+v", set.Lanes)
	}
	g.trees["copy"] = within(harness.Tree(g.T, g.e.Elm, "quiet"), "copies")
	if g.text("copy", "elm's own.txt") != "elm had this" {
		g.Error("the third replica was not filled")
	}
	// Its server was replaced: what is at the new place is adopted.
	if _, err := api.EditReplica(ctx, "beds", "copy", model.EditReplica{Home: &model.ReplicaHome{Server: "oak", Share: "quiet", Sub: "copies"}}); err != nil {
		g.Fatal(err)
	}
	g.await("a new home", func(s model.ReplicaSet) bool {
		return s.Replicas[2].Server == "oak" && s.Replicas[2].Filled && steady(s)
	})
	g.trees["copy"] = within(harness.Tree(g.T, g.e.Oak, "quiet"), "copies")
	g.write("copy", "from the new home.txt", "moved")
	g.look()
	g.arrives("from the new home.txt", "moved", "oak", "elm")
	// The seed goes, and another one takes its part.
	if _, err := api.DropReplica(ctx, "beds", "elm"); err != nil {
		g.Fatal(err)
	}
	set = g.await("two again", func(s model.ReplicaSet) bool { return len(s.Replicas) == 2 && steady(s) })
	if !slices.ContainsFunc(set.Replicas, func(r model.Replica) bool { return r.Seed }) || len(set.Lanes) != 2 || g.text("elm", "from the new home.txt") != "moved" {
		g.Errorf("without elm: %+v", set)
	}
}

// testQuotas bounds an attic: the oldest goes.
func testQuotas(g *gardenSet, api *client.Client) {
	g.Helper()
	ctx := g.Context()
	for _, name := range []string{"first.txt", "second.txt"} {
		g.write("oak", name, strings.Repeat("x", 1000))
	}
	g.look()
	g.arrives("second.txt", strings.Repeat("x", 1000), "copy")
	for _, name := range []string{"first.txt", "second.txt"} {
		if err := g.trees["oak"].Remove(ctx, name); err != nil {
			g.Fatal(err)
		}
		g.look()
		g.arrives(name, "", "copy")
	}
	kept, err := api.Attic(ctx, "beds", model.AtticFilter{Replica: "copy", Why: "removed"}, 10)
	if err != nil || len(kept) != 2 || kept[0].Size != 1000 {
		g.Fatalf("the attic keeps %+v, %v", kept, err)
	}
	c, err := api.CompareAttic(ctx, "beds", kept[0].ID)
	if err != nil || c.Now != nil || c.Kept.Text == nil || len(*c.Kept.Text) != 1000 {
		g.Errorf("compared: %+v, %v", c, err)
	}
	quota := int64(1500)
	if _, err := api.EditReplica(ctx, "beds", "copy", model.EditReplica{AtticQuota: &quota}); err != nil {
		g.Fatal(err)
	}
	g.await("an attic within its quota", func(s model.ReplicaSet) bool { return s.Replicas[1].Attic.Items == 1 })
	if left, err := api.Attic(ctx, "beds", model.AtticFilter{Replica: "copy"}, 10); err != nil || len(left) != 1 || left[0].ID != kept[0].ID {
		g.Errorf("the attic keeps %+v, %v; the newest is number %d", left, err, kept[0].ID)
	}
}

// TestHeldFiles names who holds a file that cannot be carried, and carries it
// when it is let go; a probe tells how long changes are on their way.
func TestHeldFiles(t *testing.T) {
	t.Parallel()
	e := harness.StartEstate(t)
	api, ctx := e.API, t.Context()
	ash := standintest.OnStandardPort(t, "ash", "store")
	if _, err := api.AddServer(ctx, harness.NewServer("ash", "Lowland", ash)); err != nil {
		t.Fatal(err)
	}
	g := &gardenSet{T: t, e: e, trees: map[string]tree.Tree{"ash": harness.Tree(t, ash, "store"), "elm": harness.Tree(t, e.Elm, "quiet")}}
	g.write("ash", "held.txt", "before")
	retry := model.Retry{FirstS: 1, MostS: 1, AlertAfter: 2}
	if _, err := api.CreateReplicaSet(ctx, model.NewReplicaSet{Name: "beds", Retry: &retry, Replicas: []model.NewReplica{{Server: "ash", Share: "store"}, {Server: "elm", Share: "quiet"}}}, nil); err != nil {
		t.Fatal(err)
	}
	g.await("the first fill", steady)
	hold, err := fileserver.HoldOpen(ash.Address, "store", "held.txt", "changed by ada", fileserver.Person{Name: "warden", Password: standintest.Password("warden")})
	if err != nil {
		t.Fatal(err)
	}
	g.look()
	g.await("words about who holds it", func(s model.ReplicaSet) bool {
		troubles, err := api.ReplicaTroubles(ctx, "beds")
		return err == nil && len(troubles) == 1 && troubles[0].InUse && strings.Contains(troubles[0].Holder, "warden at ash") && troubles[0].Path == "held.txt" &&
			slices.ContainsFunc(s.Alerts, func(a finding.Finding) bool {
				return a.Code == "tried-often" && strings.Contains(a.Remedy, "warden")
			})
	})
	if err := hold.Close(); err != nil {
		t.Fatal(err)
	}
	g.arrives("held.txt", "changed by ada", "elm")
	g.await("no trouble", func(s model.ReplicaSet) bool { return steady(s) && s.Replicas[1].Troubles == 0 })
	testProbe(g)
}

func testProbe(g *gardenSet) {
	g.Helper()
	api, ctx := g.e.API, g.Context()
	_, err := api.DropProbe(ctx, "beds", model.DropProbe{From: "birch"})
	refused(g.T, "a probe from nowhere", err, http.StatusNotFound, "")
	p, err := api.DropProbe(ctx, "beds", model.DropProbe{From: "elm"})
	for deadline := time.Now().Add(time.Minute); err == nil && !p.Run.State.Ended() && time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		p, err = api.ReplicaProbe(ctx, p.Run.ID)
	}
	if err != nil || p.Run.State != model.RunDone || len(p.Arrivals) != 1 || p.Arrivals[0].Replica != "ash" || p.Arrivals[0].ContentMs == nil || p.Arrivals[0].PermissionsMs == nil || p.Arrivals[0].ForetoldMs == nil || p.Left {
		g.Fatalf("%+v, %v", p, err)
	}
	for name, t := range g.trees {
		for entry, err := range t.List(ctx, ".", tree.Plain) {
			if err != nil || strings.HasPrefix(entry.Name, "bridge-span-probe") {
				g.Errorf("%s still has %s, %v", name, entry.Name, err)
			}
		}
	}
	if kept, err := api.Attic(ctx, "beds", model.AtticFilter{Why: "removed"}, 10); err != nil || len(kept) != 0 {
		g.Errorf("attics keep %+v, %v", kept, err)
	}
	if list, err := api.Probes(ctx, "beds"); err != nil || len(list) != 1 {
		g.Errorf("%d probes, %v", len(list), err)
	}
}
