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
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/tree"
)

// TestMover keeps a folder of a host, where a mover runs, the same as one of an
// SMB server.
func TestMover(t *testing.T) {
	t.Parallel()
	e := harness.StartEstate(t)
	api, ctx := e.API, t.Context()
	reed := harness.StartMover(t)
	testRefusedMovers(t, api, reed)
	v, err := api.AddServer(ctx, reed.NewServer("reed", "Upland"))
	if err != nil || v.Kind != model.ServerMover || v.Certificate != reed.Fingerprint || v.Account != "" {
		t.Fatalf("%+v, %v", v, err)
	}
	testMoverAsServer(t, api, reed)

	m := &moverSet{&gardenSet{T: t, e: e, trees: map[string]tree.Tree{"oak": harness.Tree(t, e.Oak, "store")}}, reed}
	m.write("oak", "from oak.txt", "written at oak")
	if err := os.WriteFile(filepath.Join(reed.Folder, "extra.txt"), []byte("only at reed"), 0o600); err != nil {
		t.Fatal(err)
	}
	m.planNames()
	asked := model.NewReplicaSet{Name: "beds", Replicas: []model.NewReplica{{Server: "oak", Share: "store"}, {Server: "reed", Share: "beds", Sub: "copies/beds"}}}
	m.plan(asked)
	if _, err := api.CreateReplicaSet(ctx, asked, nil); err != nil {
		t.Fatal(err)
	}
	m.await("the first fill", steady)
	m.hostHas("from oak.txt", "written at oak")
	m.clean()

	// What people change on the host is told by its kernel.
	began := time.Now()
	m.hostWrites("from reed.txt", "written on the host")
	m.arrives("from reed.txt", "written on the host", "oak")
	if took := time.Since(began); took > 4*time.Second {
		t.Errorf("a change on the host was at oak after %s", took)
	}
	m.write("oak", "from oak.txt", "changed at oak")
	m.look()
	m.await("the change at the host", func(model.ReplicaSet) bool { return m.host("from oak.txt") == "changed at oak" })
	m.delta()
	m.killed()
	m.clean()
}

type moverSet struct {
	*gardenSet
	reed *harness.Mover
}

func (m *moverSet) path(name string) string { return filepath.Join(m.reed.Folder, "copies/beds", name) }

// host is what a file on the host holds; "" when it is not there.
func (m *moverSet) host(name string) string {
	text, err := os.ReadFile(m.path(name))
	if err != nil {
		return ""
	}
	return string(text)
}

func (m *moverSet) hostHas(name, text string) {
	m.Helper()
	if got := m.host(name); got != text {
		m.Errorf("%s on the host holds %q, want %q", name, got, text)
	}
}

func (m *moverSet) hostWrites(name, text string) {
	m.Helper()
	if err := os.WriteFile(m.path(name), []byte(text), 0o644); err != nil {
		m.Fatal(err)
	}
}

// plan plans the set: nothing that it asks for fails.
func (m *moverSet) plan(asked model.NewReplicaSet) {
	m.Helper()
	p, err := m.e.API.PlanReplicaSet(m.Context(), asked)
	for deadline := time.Now().Add(time.Minute); err == nil && !p.Run.State.Ended() && time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
		p, err = m.e.API.ReplicaPlan(m.Context(), p.Run.ID)
	}
	if err != nil || p.Run.State != model.RunDone || p.Outcome == finding.Fail {
		m.Fatalf("the plan: %+v, %v", p, err)
	}
	for _, name := range []string{"rights", "clock", "accounts", "space"} {
		if !slices.ContainsFunc(p.Checks, func(l finding.Finding) bool {
			return l.Code == name && strings.HasPrefix(l.Found, "reed") && l.Severity == finding.Pass
		}) {
			m.Errorf("no check of reed's %s passes: %+v", name, p.Checks)
		}
	}
}

// planNames plans a set with names that cannot be everywhere, or not side by side.
func (m *moverSet) planNames() {
	m.Helper()
	quiet := harness.Tree(m.T, m.e.Oak, "quiet")
	if _, err := quiet.Put(m.Context(), "fern.TXT", strings.NewReader("fern"), tree.PutOptions{}); err != nil {
		m.Fatal(err)
	}
	odd := filepath.Join(m.reed.Folder, "odd")
	if err := os.Mkdir(odd, 0o755); err != nil {
		m.Fatal(err)
	}
	for _, name := range []string{"Fern.txt", "moss.txt", "Moss.txt", "what?.txt", "tail."} {
		if err := os.WriteFile(filepath.Join(odd, name), []byte("fern"), 0o644); err != nil {
			m.Fatal(err)
		}
	}
	p := planned(m.T, m.e.API, model.NewReplicaSet{Name: "odd", Replicas: []model.NewReplica{{Server: "reed", Share: "beds", Sub: "odd"}, {Server: "oak", Share: "quiet"}}})
	var found []string
	for _, l := range p.Checks {
		if l.Code == "names" {
			found = append(found, l.Found)
		}
	}
	if want := []string{"reed: 1 name differs from another in upper and lower case alone, such as moss.txt",
		"oak: 1 name has other upper and lower case than at the seed, such as fern.TXT",
		"oak: 2 names of the seed are refused there, such as tail.: a name on an SMB server cannot end in a dot or a space"}; !slices.Equal(found, want) {
		m.Errorf("of names the plan says %q, want %q", found, want)
	}
	if s := p.Places[1]; s.Equal.Files+s.Differ.Files != 1 || s.Missing.Files != 4 {
		m.Errorf("what is at oak: %+v", s)
	}
	if err := errors.Join(os.RemoveAll(odd), quiet.Remove(m.Context(), "fern.TXT")); err != nil {
		m.Fatal(err)
	}
}

// clean verifies every byte and all permissions.
func (m *moverSet) clean() {
	m.Helper()
	v := verifying{m.gardenSet}
	found := v.verify("full")
	if list := v.found(found.Run.ID); len(list) != 0 || found.Replicas[0].Read == 0 {
		m.Errorf("the replicas differ: %v, %+v", list, found)
	}
}

// delta changes little of a large file that came from the host.
func (m *moverSet) delta() {
	m.Helper()
	large := largeFile()
	if err := os.WriteFile(m.path("scan.tif"), large, 0o644); err != nil {
		m.Fatal(err)
	}
	m.arrives("scan.tif", string(large), "oak")
	m.stamp(large, 0, func() string { return m.host("scan.tif") })
}

// killed kills the mover while files are on their way, and starts it again.
func (m *moverSet) killed() {
	m.Helper()
	for i := range 30 {
		m.write("oak", "batch "+string(rune('a'+i%26))+string(rune('a'+i/26))+".txt", strings.Repeat("leaf ", 20_000))
	}
	m.look()
	m.await("the batch under way", func(s model.ReplicaSet) bool { return m.host("batch aa.txt") != "" })
	m.reed.Kill()
	m.hostWrites("while it was away.txt", "nobody told")
	m.look()
	m.await("that the mover is missed", func(s model.ReplicaSet) bool { return s.State == model.SetFailing })
	m.reed.Start(m)
	m.arrives("while it was away.txt", "nobody told", "oak")
	m.await("the rest of the batch", func(s model.ReplicaSet) bool { return steady(s) && m.host("batch db.txt") != "" })
	m.look()
	m.await("an empty intake", func(model.ReplicaSet) bool {
		left, err := filepath.Glob(filepath.Join(m.reed.Folder, "copies/beds/.bspan/intake/*/*/*"))
		return err == nil && len(left) == 0
	})
}

// testRefusedMovers adds what is not the mover that it should be.
func testRefusedMovers(t *testing.T, api *client.Client, reed *harness.Mover) {
	for _, c := range []struct {
		what, field string
		change      func(*model.NewServer)
	}{
		{"another secret", "password", func(n *model.NewServer) { n.Password = "guessed" }},
		{"another certificate", "certificate", func(n *model.NewServer) { n.Certificate = strings.Repeat("ab", 32) }},
		{"no certificate", "certificate", func(n *model.NewServer) { n.Certificate = "abc" }},
		{"an account", "account", func(n *model.NewServer) { n.Account = "warden" }},
		{"nobody there", "address", func(n *model.NewServer) { n.Port = 1 }},
	} {
		n := reed.NewServer("reed", "Upland")
		c.change(&n)
		_, err := api.AddServer(t.Context(), n)
		refused(t, c.what, err, http.StatusUnprocessableEntity, c.field)
	}
}

// testMoverAsServer meets the mover where file servers are met.
func testMoverAsServer(t *testing.T, api *client.Client, reed *harness.Mover) {
	ctx := t.Context()
	shares, err := api.Shares(ctx, "reed")
	if err != nil || len(shares) != 1 || shares[0].Name != "beds" || shares[0].Path != reed.Folder {
		t.Errorf("its folders: %+v, %v", shares, err)
	}
	check, err := api.CheckServer(ctx, "reed")
	if err != nil || check.Outcome == finding.Fail || len(check.Lines) != 6 {
		t.Errorf("its check: %+v, %v", check, err)
	}
	if d, err := api.Share(ctx, "reed", "beds"); err != nil || d.Total == 0 {
		t.Errorf("its folder: %+v, %v", d, err)
	}
	estimateMover(t, api, reed)
	_, err = api.Accounts(ctx, "reed", "", "")
	refused(t, "its accounts", err, http.StatusUnprocessableEntity, "")
	_, err = api.AddEntry(ctx, "garden", model.NewEntry{Path: "reed", Kind: "signpost", Locations: []model.NewLocation{{Server: "reed", Share: "beds"}}})
	refused(t, "a signpost to it", err, http.StatusUnprocessableEntity, "locations")
}

// estimateMover estimates the folder of a mover, as a volume like any other.
func estimateMover(t *testing.T, api *client.Client, reed *harness.Mover) {
	t.Helper()
	content := randomBytes(5, 300_000)
	for _, name := range []string{"one.bin", "other.bin"} {
		if err := os.WriteFile(filepath.Join(reed.Folder, name), content, 0o600); err != nil {
			t.Fatal(err)
		}
		defer os.Remove(filepath.Join(reed.Folder, name))
	}
	asked := model.NewEstimate{Name: "beds of reed", Places: []model.DedupPlace{{Server: "reed", Share: "beds"}}}
	look, err := api.LookBeforeEstimate(t.Context(), asked)
	if err != nil || len(look.Places) != 1 || look.Places[0].FileSystem == "" {
		t.Errorf("beforehand: %+v, %v", look, err)
	}
	v := &estimating{T: t, e: &harness.Estate{API: api}}
	found := v.estimate(asked).Found
	if found.WholeFiles != 300_000 || found.Totals.Unique.Bytes >= found.Totals.InPolicy.Bytes || len(found.Where.Owners) == 0 {
		t.Errorf("what is found: %+v", found)
	}
	if err := api.ForgetEstimatedVolume(t.Context(), asked.Name); err != nil {
		t.Error(err)
	}
}

// testMoverInConsole adds a mover, and meets its folder.
func testMoverInConsole(c checker) {
	c.t.Helper()
	tab, reed := c.tab, harness.StartMover(c.t)
	if err := os.WriteFile(filepath.Join(reed.Folder, "readings.csv"), []byte("12:00,21.5\n"), 0o644); err != nil {
		c.t.Fatal(err)
	}
	c.must(tab.Click("link", "Servers"), tab.Click("button", "Add a server"), tab.Choose("Reached by", "A mover on that host"))
	c.must(tab.Type("Name", "reed"), tab.Choose("Site", "Upland"), tab.Type("Address", reed.Address), tab.Type("Port", itoa(reed.Port)),
		tab.Type("Certificate", strings.Repeat("ab", 32)), tab.Type("Secret", reed.Secret), tab.Click("button", "Sign in and add"), tab.See("has another certificate"))
	c.accessible("adding a mover, with an error")
	c.must(tab.Type("Certificate", reed.Fingerprint), tab.Click("button", "Sign in and add"), tab.See("reed was added"), tab.See("Mover, known by"), tab.See("free of"))
	c.accessible("a mover")
	c.must(tab.Click("link", "beds"), tab.See("On the host"), tab.Click("button", "Survey now"), tab.See(".csv"))
	c.accessible("a folder of a mover")
	c.must(tab.Click("link", "Servers"), tab.See("mover"))
}
