package e2e

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"bridgespan/client"
	"bridgespan/core/acl"
	"bridgespan/core/filter"
	"bridgespan/core/finding"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/mover/replication"
	"bridgespan/tree"
)

// garden is a replica set over three folders of two servers.
type gardenSet struct {
	*testing.T
	e     *harness.Estate
	trees map[string]tree.Tree // by replica
}

// await asks for the set until it is as wanted.
func (g *gardenSet) await(what string, ok func(model.ReplicaSet) bool) model.ReplicaSet {
	g.Helper()
	for deadline := time.Now().Add(40 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		set, err := g.e.API.ReplicaSet(g.Context(), "beds")
		if err == nil && ok(set) {
			return set
		}
		if time.Now().After(deadline) {
			g.Fatalf("%s does not come: %+v, %v", what, set, err)
		}
	}
}

// text is what a file of a replica holds; "" when it is not there.
func (g *gardenSet) text(replica, name string) string {
	text, err := tree.ReadFile(g.Context(), g.trees[replica], name)
	if err != nil {
		return ""
	}
	return string(text)
}

// arrives waits until replicas show a text; "" waits until the file is gone.
func (g *gardenSet) arrives(name, text string, replicas ...string) {
	g.Helper()
	g.await(name+" with "+text, func(model.ReplicaSet) bool {
		return !slices.ContainsFunc(replicas, func(r string) bool { return g.text(r, name) != text })
	})
}

func (g *gardenSet) write(replica, name, text string) {
	g.Helper()
	if _, err := g.trees[replica].Put(g.Context(), name, strings.NewReader(text), tree.PutOptions{Replace: true}); err != nil {
		g.Fatal(err)
	}
}

func (g *gardenSet) look() {
	g.Helper()
	if err := g.e.API.LookAtReplicas(g.Context(), "beds", ""); err != nil {
		g.Fatal(err)
	}
}

// largeFile is a content of which it pays to carry a part.
func largeFile() []byte {
	large := make([]byte, 6<<20)
	for i := range large {
		large[i] = byte(rand.Uint32())
	}
	return large
}

// stamp changes little of scan.tif at oak: little of it crosses the first of the lanes
// that lead away from there, which has carried so many bytes before. shown is what its
// other end shows.
func (g *gardenSet) stamp(large []byte, carried int64, shown func() string) {
	g.Helper()
	lane := func(set model.ReplicaSet) model.Carried {
		return set.Lanes[slices.IndexFunc(set.Lanes, func(l model.Lane) bool { return l.From == "oak" })].Carried
	}
	before := lane(g.await("rest", func(s model.ReplicaSet) bool { return steady(s) && lane(s).Bytes >= carried }))
	copy(large[3<<20:], "a stamp in the middle")
	g.write("oak", "scan.tif", string(large))
	g.look()
	g.await("the stamp", func(model.ReplicaSet) bool { return shown() == string(large) })
	brought := func(s model.ReplicaSet) int64 { return lane(s).Bytes + lane(s).Spared - before.Bytes - before.Spared }
	after := lane(g.await("its figures", func(s model.ReplicaSet) bool { return brought(s) >= int64(len(large)) }))
	if crossed := after.Bytes - before.Bytes; crossed > 500_000 {
		g.Errorf("of %d bytes with one stamp %d crossed", len(large), crossed)
	}
}

func steady(set model.ReplicaSet) bool { return set.State == model.SetSteady }

// A set whose plan found what stands in its way is not made, unless that is wanted.
func testFailedPlan(t *testing.T, e *harness.Estate) {
	t.Helper()
	marked := harness.Tree(t, e.Elm, "quiet")
	if err := tree.MkdirAll(t.Context(), marked, "marked/.bspan"); err != nil {
		t.Fatal(err)
	}
	if _, err := marked.Put(t.Context(), "marked/.bspan/replica", strings.NewReader("of nobody, replica 7\n"), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	asked := model.NewReplicaSet{Name: "hasty", Replicas: []model.NewReplica{{Server: "oak", Share: "quiet"}, {Server: "elm", Share: "quiet", Sub: "marked"}}}
	p := planned(t, e.API, asked)
	if p.CanCreate {
		t.Errorf("the plan over a marked folder: %+v", p.Checks)
	}
	_, err := e.API.CreateReplicaSet(t.Context(), asked, nil)
	refused(t, "what its plan forbids", err, http.StatusConflict, "")
	if err == nil || !strings.Contains(err.Error(), "is marked") {
		t.Errorf("what is in the way: %v", err)
	}
	if err := tree.RemoveAll(t.Context(), marked, "marked"); err != nil {
		t.Fatal(err)
	}
}

// The run that made a set is listed by its kind. An operator can neither stop, resume nor
// remove it: it works with the rights of an administrator.
func testCreationRuns(t *testing.T, e *harness.Estate) {
	t.Helper()
	made, err := e.API.Runs(t.Context(), "create-set", 10)
	if err != nil || len(made) == 0 || made[0].Kind != "create-set" {
		t.Fatalf("the runs that create sets: %+v, %v", made, err)
	}
	if _, err := e.API.AddUser(t.Context(), model.NewUser{Name: "op", Password: harness.Password, Role: model.Operator}); err != nil {
		t.Fatal(err)
	}
	token := e.SignIn(t, "op", harness.Password).Token
	for _, c := range [][2]string{{"POST", "/stop"}, {"POST", "/resume"}, {"DELETE", ""}} {
		if got := call(t, fmt.Sprintf("%s/api/v1/runs/%d%s", e.Base, made[0].ID, c[1]), c[0], token); got != http.StatusForbidden {
			t.Errorf("%s %s as operator: %d", c[0], c[1], got)
		}
	}
}

// A share in which there is a replica is not ended.
func testSharesOfSets(t *testing.T, api *client.Client) {
	t.Helper()
	for _, detach := range []bool{false, true} {
		plan, err := api.RemoveShare(t.Context(), "elm", "quiet", true, detach)
		if err != nil || !slices.ContainsFunc(plan.Advice, func(a finding.Finding) bool {
			return a.Severity == finding.Fail && strings.Contains(a.Found, "beds (elm copy)")
		}) {
			t.Errorf("what ending a share of a set would mean: %+v, %v", plan.Advice, err)
		}
		_, err = api.RemoveShare(t.Context(), "elm", "quiet", false, detach)
		refused(t, "ending a share of a set", err, http.StatusConflict, "share")
	}
}

func testPhysicalOverlap(t *testing.T, e *harness.Estate, asked model.NewReplicaSet) {
	t.Helper()
	acorn := harness.NewServer("acorn", "Lowland", e.Oak) // another name of oak
	if _, err := e.API.AddServer(t.Context(), acorn); err != nil {
		t.Fatal(err)
	}
	for what, places := range map[string][]model.NewReplica{
		"inside another set":   {{Server: "acorn", Share: "store", Sub: "2026"}, {Server: "elm", Share: "quiet", Sub: "other"}},
		"around each other":    {{Server: "acorn", Share: "quiet", Sub: "deep/deeper"}, {Server: "oak", Share: "quiet", Sub: "deep"}},
		"one and the same":     {{Server: "acorn", Share: "quiet", Sub: "x"}, {Server: "oak", Share: "quiet", Sub: "X"}},
		"inside, a new folder": {{Server: "elm", Share: "quiet", Sub: "other"}, {Server: "acorn", Share: "store", Sub: "made/anew"}},
	} {
		n := asked
		n.Name, n.Replicas = "double", places
		_, err := e.API.CreateReplicaSet(t.Context(), n, nil)
		if err == nil || !strings.Contains(err.Error(), "both lie on one machine") {
			t.Errorf("%s: %v", what, err)
		}
		p, err := e.API.PlanReplicaSet(t.Context(), n)
		for err == nil && !p.Run.State.Ended() {
			p, err = e.API.ReplicaPlan(t.Context(), p.Run.ID)
		}
		if err != nil || !slices.ContainsFunc(p.Checks, func(l finding.Finding) bool {
			return l.Severity == finding.Fail && strings.Contains(l.Found, "both lie on one machine")
		}) {
			t.Errorf("the plan of %s: %+v, %v", what, p.Checks, err)
		}
	}
	if err := e.API.RemoveServer(t.Context(), "acorn", false); err != nil {
		t.Error(err)
	}
}

func TestReplicaSets(t *testing.T) {
	t.Parallel()
	e := harness.StartEstate(t)
	api, ctx := e.API, t.Context()
	g := &gardenSet{T: t, e: e, trees: map[string]tree.Tree{"oak": harness.Tree(t, e.Oak, "store"), "elm store": harness.Tree(t, e.Elm, "store")}}
	g.write("elm store", "only here.txt", "elm had this")
	asked := model.NewReplicaSet{Name: "beds", Layout: model.LayoutHub, Filter: filter.Rules{LeaveOut: []string{"*.tmp"}}, Replicas: []model.NewReplica{
		{Server: "oak", Share: "store"}, {Server: "elm", Share: "store", Name: "elm store"}, {Server: "elm", Share: "quiet", Sub: "copies/beds", Name: "elm copy"}}}
	testRefusedSets(t, api, asked)
	testPlan(t, api, asked)
	testFailedPlan(t, e)
	if _, err := api.CreateReplicaSet(ctx, asked, nil); err != nil {
		t.Fatal(err)
	}
	testSharesOfSets(t, api)
	testCreationRuns(t, e)
	set := g.await("the first fill", steady)
	session := harness.Tree(t, e.Elm, "quiet")
	g.trees["elm copy"] = within(session, "copies/beds")
	if set.Replicas[1].Attic.Items != 1 || g.text("elm store", "only here.txt") != "" || g.text("elm copy", "2026/spring/ledger.csv") != string(harness.Ledger) {
		t.Errorf("after the first fill: %+v", set.Replicas)
	}
	if set.Replicas[0].PickedUp == nil || set.Lanes[0].Words == "" {
		t.Errorf("the set does not tell how it is: %+v", set)
	}
	overlapping := asked
	overlapping.Name = "inside"
	overlapping.Replicas = []model.NewReplica{{Server: "oak", Share: "store", Sub: "2026"}, {Server: "oak", Share: "quiet"}}
	_, err := api.CreateReplicaSet(ctx, overlapping, nil)
	refused(t, "a set inside another one", err, http.StatusUnprocessableEntity, "replicas[0].sub")

	testPhysicalOverlap(t, e, asked)

	// Changes get everywhere, also from one far end to the other; what is left out does not.
	g.write("elm copy", "2026/note.txt", "from the far end")
	g.write("oak", "scratch.tmp", "left out")
	g.look()
	g.arrives("2026/note.txt", "from the far end", "oak", "elm store")
	if g.text("elm store", "scratch.tmp") != "" {
		t.Error("what is left out was carried")
	}
	// Neither of these servers has a mover.
	scan := largeFile()
	g.write("oak", "scan.tif", string(scan))
	g.look()
	g.arrives("scan.tif", string(scan), "elm store", "elm copy")
	g.stamp(scan, int64(len(scan)), func() string { return g.text("elm store", "scan.tif") })
	testLanes(g)
	testConflict(g)
	testServerAway(g)
	testPreview(g)
	testSettings(g)
	testEndOfSet(g)
}

// within is a folder of a tree as a tree.
func within(t tree.Tree, folder string) tree.Tree { return &inside{t, folder} }

func testRefusedSets(t *testing.T, api *client.Client, good model.NewReplicaSet) {
	t.Helper()
	for what, c := range map[string]struct {
		change func(*model.NewReplicaSet)
		field  string
	}{
		"one replica":           {func(n *model.NewReplicaSet) { n.Replicas = n.Replicas[:1] }, "replicas"},
		"two in one place":      {func(n *model.NewReplicaSet) { n.Replicas[1] = n.Replicas[0] }, "replicas[1].sub"},
		"two of one name":       {func(n *model.NewReplicaSet) { n.Replicas[1].Name = "elm copy" }, "replicas[2].name"},
		"a calendar of nothing": {func(n *model.NewReplicaSet) { n.Calendar = "sometimes" }, "calendar"},
		"a server of nobody":    {func(n *model.NewReplicaSet) { n.Replicas[0].Server = "ash" }, "replicas[0].server"},
		"its own folder":        {func(n *model.NewReplicaSet) { n.Replicas[0].Sub = ".bspan/attic" }, "replicas[0].sub"},
		"a lane to nowhere":     {func(n *model.NewReplicaSet) { n.Lanes = []model.NewLane{{From: "oak", To: "ash"}} }, "lanes[0].to"},
		"a lane not in a hub":   {func(n *model.NewReplicaSet) { n.Lanes = []model.NewLane{{From: "elm store", To: "elm copy"}} }, "lanes[0].to"},
		"two seeds":             {func(n *model.NewReplicaSet) { n.Replicas[0].Seed, n.Replicas[1].Seed = true, true }, "replicas[1].seed"},
		"no way from the seed":  {func(n *model.NewReplicaSet) { n.Layout = model.LayoutCustom }, "lanes"},
		"a pattern of nothing":  {func(n *model.NewReplicaSet) { n.Filter.LeaveOut = []string{"["} }, "filter.leaveOut[0]"},
	} {
		n := good
		n.Replicas = slices.Clone(good.Replicas)
		c.change(&n)
		_, err := api.CreateReplicaSet(t.Context(), n, nil)
		refused(t, what, err, http.StatusUnprocessableEntity, c.field)
	}
	if sets, err := api.ReplicaSets(t.Context()); err != nil || len(sets) != 0 {
		t.Errorf("after refusals there are %d sets, %v", len(sets), err)
	}
}

// planned is a plan when it is done.
func planned(t *testing.T, api *client.Client, asked model.NewReplicaSet) model.ReplicaPlan {
	t.Helper()
	p, err := api.PlanReplicaSet(t.Context(), asked)
	for deadline := time.Now().Add(time.Minute); err == nil && !p.Run.State.Ended() && time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		p, err = api.ReplicaPlan(t.Context(), p.Run.ID)
	}
	if err != nil || p.Run.State != model.RunDone {
		t.Fatalf("the plan: %+v, %v", p, err)
	}
	return p
}

// testPlan finds out what will come of a set, and changes nothing.
func testPlan(t *testing.T, api *client.Client, asked model.NewReplicaSet) {
	t.Helper()
	p := planned(t, api, asked)
	if !p.CanCreate || len(p.Places) != 3 || len(p.Layouts) != 3 {
		t.Fatalf("the plan: %+v", p)
	}
	size := int64(len(harness.Ledger))
	if s, c := p.Places[1], p.Places[2]; s.Equal.Files != 1 || s.Extra.Files != 1 || c.Missing.Bytes != size || c.There || !s.There {
		t.Errorf("what is there: %+v", p.Places)
	}
	if l := p.Layouts[0]; !l.Asked || l.Layout != "hub" || l.Filled == nil || len(l.Lanes) != 4 || l.Fills[1].Bytes != size {
		t.Errorf("the layout that was asked for: %+v", l)
	}
	if !strings.Contains(strings.Join(p.Steps, "|"), "Make the folder elm/quiet/copies/beds.") || !strings.Contains(p.Summary, "oak/store") {
		t.Errorf("%s: %v", p.Summary, p.Steps)
	}
	found := map[string]finding.Severity{}
	for _, l := range p.Checks {
		if found[l.Code] != finding.Warn {
			found[l.Code] = l.Severity
		}
	}
	// An account of oak alone has rights there, and what elm has of its own goes to the attic.
	for name, want := range map[string]finding.Severity{"content": finding.Warn, "space": finding.Pass, "rights": finding.Pass, "clock": finding.Pass, "calendar": finding.Pass} {
		if found[name] != want {
			t.Errorf("check %s: %s, want %s", name, found[name], want)
		}
	}
	if sets, err := api.ReplicaSets(t.Context()); err != nil || len(sets) != 0 {
		t.Errorf("planning made %d sets, %v", len(sets), err)
	}
}

// testPreview tells what follows from other settings, and changes nothing.
func testPreview(g *gardenSet) {
	g.Helper()
	api, ctx := g.e.API, g.Context()
	before, err := api.ReplicaSet(ctx, "beds")
	if err != nil {
		g.Fatal(err)
	}
	chain, thin, days, little, closed := "chain", "off; mon 3-4 1", 1, int64(1000), true
	leaveOut := filter.Rules{LeaveOut: []string{"*.csv"}}
	for what, c := range map[string]struct {
		change  model.SettingsChange
		follows string
		outcome finding.Severity
	}{
		"another layout":    {model.SettingsChange{Set: &model.EditReplicaSet{Layout: &chain}}, "2 lanes are new: elm store to elm copy, elm copy to elm store.", finding.Pass},
		"a thin calendar":   {model.SettingsChange{Set: &model.EditReplicaSet{Calendar: &thin}}, "429 MiB fit into a week", finding.Pass},
		"a wider filter":    {model.SettingsChange{Set: &model.EditReplicaSet{Filter: &leaveOut}}, "Left out from now on: 1 file (1.3 MiB).", finding.Pass},
		"a shorter memory":  {model.SettingsChange{Set: &model.EditReplicaSet{AtticDays: &days}}, "Nothing that can be told", finding.Pass},
		"a pause":           {model.SettingsChange{Set: &model.EditReplicaSet{Paused: &closed}}, "Nothing is looked at or carried until it goes on", finding.Pass},
		"a closed lane":     {model.SettingsChange{Lane: &model.LaneChange{From: "oak", To: "elm store", Change: model.EditLane{Closed: &closed}}}, "oak to elm store: 0 B fit into a week", finding.Fail},
		"a small intake":    {model.SettingsChange{Replica: &model.ReplicaChange{Name: "elm copy", Change: model.EditReplica{IntakeQuota: &little}}}, "1000 B may be on its way in at a time", finding.Warn},
		"less for an attic": {model.SettingsChange{Replica: &model.ReplicaChange{Name: "elm store", Change: model.EditReplica{AtticQuota: &little}}}, "its attic may keep 1000 B", finding.Pass},
	} {
		p, err := api.PreviewSettings(ctx, "beds", c.change)
		if err != nil || !strings.Contains(strings.Join(p.Follows, "|"), c.follows) || p.Outcome != c.outcome {
			g.Errorf("%s: %+v, %v", what, p, err)
		}
	}
	bad := "sometimes"
	_, err = api.PreviewSettings(ctx, "beds", model.SettingsChange{Set: &model.EditReplicaSet{Calendar: &bad}})
	refused(g.T, "a calendar of nothing", err, http.StatusUnprocessableEntity, "calendar")
	_, err = api.PreviewSettings(ctx, "beds", model.SettingsChange{Lane: &model.LaneChange{From: "oak", To: "ash"}})
	refused(g.T, "a lane that is not there", err, http.StatusNotFound, "")
	if after, err := api.ReplicaSet(ctx, "beds"); err != nil || after.Version != before.Version {
		g.Errorf("looking ahead changed it: %+v, %v", after, err)
	}
}

// testLanes closes a lane, and opens it again.
func testLanes(g *gardenSet) {
	api, ctx := g.e.API, g.Context()
	closed, open := true, false
	if _, err := api.EditLane(ctx, "beds", "oak", "elm store", model.EditLane{Closed: &closed}); err != nil {
		g.Fatal(err)
	}
	g.await("a closed lane", func(s model.ReplicaSet) bool { return s.Lanes[0].State == model.LaneClosed })
	g.write("oak", "2026/closed.txt", "while it was closed")
	g.look()
	g.arrives("2026/closed.txt", "while it was closed", "elm copy")
	set := g.await("a backlog", func(s model.ReplicaSet) bool { return s.Lanes[0].Backlog.Files == 1 && s.Lanes[0].Backlog.Bytes == 19 })
	if set.State != model.SetBehind || set.Lanes[0].Backlog.Oldest == nil || g.text("elm store", "2026/closed.txt") != "" {
		g.Errorf("with a closed lane: %+v", set)
	}
	waiting, err := api.Backlog(ctx, "beds", "oak", "elm store", 10)
	if err != nil || len(waiting) != 1 || waiting[0].Path != "2026/closed.txt" || waiting[0].Kind != model.WaitingFile || waiting[0].Bytes != 19 {
		g.Errorf("what waits: %+v, %v", waiting, err)
	}
	_, err = api.Backlog(ctx, "beds", "elm store", "elm copy", 10)
	refused(g.T, "the backlog of no lane", err, http.StatusNotFound, "")
	never := "off"
	if _, err := api.EditLane(ctx, "beds", "oak", "elm store", model.EditLane{Closed: &open, Calendar: &never}); err != nil {
		g.Fatal(err)
	}
	minutes := 5
	if _, err := api.EditLane(ctx, "beds", "oak", "elm store", model.EditLane{OpenMinutes: &minutes}); err != nil {
		g.Fatal(err)
	}
	g.arrives("2026/closed.txt", "while it was closed", "elm store")
	zero, usual := 0, ""
	if _, err := api.EditLane(ctx, "beds", "oak", "elm store", model.EditLane{OpenMinutes: &zero, Calendar: &usual}); err != nil {
		g.Fatal(err)
	}
	g.await("rest", steady)
}

// testConflict changes a file at two replicas; the attic gives back what lost.
func testConflict(g *gardenSet) {
	api, ctx := g.e.API, g.Context()
	paused := true
	if _, err := api.EditReplicaSet(ctx, "beds", model.EditReplicaSet{Paused: &paused}); err != nil {
		g.Fatal(err)
	}
	g.await("a pause", func(s model.ReplicaSet) bool {
		return s.State == model.SetPaused && s.Lanes[0].State == model.LanePaused
	})
	g.write("oak", "2026/Fought over.txt", "earlier")
	g.write("elm copy", "2026/Fought over.txt", "later, by elm")
	at := time.Now().UTC().Truncate(time.Second)
	for replica, when := range map[string]time.Time{"oak": at.Add(-time.Hour), "elm copy": at} {
		if err := g.trees[replica].Apply(ctx, "2026/Fought over.txt", tree.Meta{Modified: when}); err != nil {
			g.Fatal(err)
		}
	}
	had, err := g.trees["oak"].Descriptor(ctx, "2026/Fought over.txt")
	if err != nil {
		g.Fatal(err)
	}
	paused = false
	if _, err := api.EditReplicaSet(ctx, "beds", model.EditReplicaSet{Paused: &paused}); err != nil {
		g.Fatal(err)
	}
	g.arrives("2026/Fought over.txt", "later, by elm", "oak", "elm store", "elm copy")
	g.await("rest", steady)
	lost, err := api.Attic(ctx, "beds", model.AtticFilter{Why: "conflict"}, 10)
	if err != nil || len(lost) != 1 || lost[0].Replica != "oak" || lost[0].Path != "2026/Fought over.txt" {
		g.Fatalf("the attics keep %+v, %v", lost, err)
	}
	if kept, err := g.trees["oak"].Descriptor(ctx, lost[0].Attic); err != nil || len(acl.Compare(kept.Parts(), had.Parts())) == 0 {
		g.Errorf("in the attic it has %v, %v", kept, err)
	}
	_, err = api.RestoreFromAttic(ctx, "beds", lost[0].ID, "")
	refused(g.T, "to put it back where something is", err, http.StatusUnprocessableEntity, "as")
	if _, err := api.RestoreFromAttic(client.Rehearse(ctx), "beds", lost[0].ID, "2026/back.txt"); err == nil || g.text("oak", "2026/back.txt") != "" {
		g.Errorf("rehearsed: %v", err)
	}
	if _, err := api.RestoreFromAttic(ctx, "beds", lost[0].ID, "2026/back.txt"); err != nil {
		g.Fatal(err)
	}
	if back, err := g.trees["oak"].Descriptor(ctx, "2026/back.txt"); err != nil || len(acl.Compare(back.Parts(), had.Parts())) > 0 {
		g.Errorf("it came back with %v, %v; it had %v", back, err, had)
	}
	g.arrives("2026/back.txt", "earlier", "oak", "elm store", "elm copy")
	first, err := api.Attic(ctx, "beds", model.AtticFilter{Replica: "elm store", Why: "first-fill"}, 10)
	if err != nil || len(first) != 1 || first[0].Path != "only here.txt" {
		g.Fatalf("of the first fill: %+v, %v", first, err)
	}
	if err := api.PurgeFromAttic(ctx, "beds", first[0].ID); err != nil {
		g.Fatal(err)
	}
	if _, err := g.trees["elm store"].Stat(ctx, first[0].Attic); !isAbsent(err) {
		g.Errorf("what was purged is there: %v", err)
	}
}

// testServerAway stops a server: the set says so, and goes on when it is back.
func testServerAway(g *gardenSet) {
	g.e.Elm.Halt()
	g.look()
	set := g.await("words about elm", func(s model.ReplicaSet) bool { return s.State == model.SetFailing && s.Replicas[1].Trouble != "" })
	if r := set.Replicas[1]; r.Trouble == "" || !strings.Contains(r.Words, "elm") {
		g.Errorf("with elm away: %+v", r)
	}
	g.write("oak", "2026/meanwhile.txt", "while elm was away")
	if err := g.e.Elm.Restart(); err != nil {
		g.Fatal(err)
	}
	g.trees["elm store"] = harness.Tree(g.T, g.e.Elm, "store")
	g.trees["elm copy"] = within(harness.Tree(g.T, g.e.Elm, "quiet"), "copies/beds")
	g.look()
	g.arrives("2026/meanwhile.txt", "while elm was away", "elm store", "elm copy")
	g.await("rest", steady)
}

// testSettings changes the layout: lanes come and go, and all stays the same.
func testSettings(g *gardenSet) {
	mesh, note := model.LayoutMesh, "as a mesh"
	if _, err := g.e.API.EditReplicaSet(client.Rehearse(g.Context()), "beds", model.EditReplicaSet{Layout: &mesh}); err == nil {
		g.Error("a rehearsal was carried out")
	}
	set, err := g.e.API.EditReplicaSet(g.Context(), "beds", model.EditReplicaSet{Layout: &mesh, Note: &note})
	if err != nil || len(set.Lanes) != 6 {
		g.Fatalf("as a mesh: %+v, %v", set, err)
	}
	g.await("the mesh", func(s model.ReplicaSet) bool { return steady(s) && s.Replicas[0].PickedUp != nil })
	g.write("elm store", "2026/mesh.txt", "by the short way")
	g.look()
	g.arrives("2026/mesh.txt", "by the short way", "oak", "elm copy")
}

// testEndOfSet ends the set: its files stay, and its folders are free again.
func testEndOfSet(g *gardenSet) {
	api, ctx := g.e.API, g.Context()
	_, err := api.ReplicaSet(ctx, "nothing")
	refused(g.T, "a set that is not there", err, http.StatusNotFound, "")
	err = api.RemoveServer(ctx, "elm", true)
	refused(g.T, "to remove a server with replicas", err, http.StatusConflict, "")
	if err := api.RemoveReplicaSet(ctx, "beds"); err != nil {
		g.Fatal(err)
	}
	for name, t := range g.trees {
		if _, err := t.Stat(ctx, replication.MarkFile); !isAbsent(err) {
			g.Errorf("%s still bears a mark: %v", name, err)
		}
		if g.text(name, "2026/mesh.txt") == "" {
			g.Errorf("%s has lost its files", name)
		}
	}
}
