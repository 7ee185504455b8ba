package e2e

import (
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/core/finding"
	"bridgespan/core/mapping"
	"bridgespan/core/namespace"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
)

// orchard is an estate with a front at each site.
type orchard struct {
	*harness.Estate
	low, up *harness.Mover
}

// TestFronts lets people come to a namespace with a client of SMB that knows nothing of Bridge
// Span: it follows the links of the front at its site, to the first location.
func TestFronts(t *testing.T) {
	t.Parallel()
	o := &orchard{Estate: harness.StartEstateOf(t, standintest.OnStandardPort)}
	o.low, o.up = harness.StartFrontHost(t, "bracken"), harness.StartFrontHost(t, "bluebell")
	for name, at := range map[string]struct {
		m    *harness.Mover
		site string
	}{"bracken": {o.low, "Lowland"}, "bluebell": {o.up, "Upland"}} {
		if _, err := o.API.AddServer(t.Context(), at.m.NewServer(name, at.site)); err != nil {
			t.Fatal(err)
		}
	}
	o.mark(t, "here.txt")
	o.openAll(t)
	testFrontAdd(t, o)
	testFrontOrder(t, o)
	testFrontVerified(t, o)
	testFrontCheck(t, o)
	testFrontMappings(t, o)
	testFrontBranch(t, o)
	testFrontRefuses(t, o)
	testFrontForeign(t, o)
	testFrontKilled(t, o)
	testFrontAway(t, o)
	testFrontServerHangs(t, o)
	testFrontServerKilled(t, o)
	testFrontPages(t, o)
	testFrontRemove(t, o)
}

// mark puts a file that says where it is into the share of each server.
func (o *orchard) mark(t *testing.T, file string) {
	t.Helper()
	for name, at := range map[string]string{"oak": o.Oak.SharePath("store"), "elm": o.Elm.SharePath("store")} {
		if err := os.WriteFile(filepath.Join(at, file), []byte(name), 0o666); err != nil {
			t.Fatal(err)
		}
	}
}

func (o *orchard) openAll(t *testing.T) {
	t.Helper()
	e, err := o.API.EntryAt(t.Context(), "garden", "store")
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range e.Locations {
		o.set(t, l.Server, namespace.Open)
	}
}

// set opens or holds the location of /garden/store at a server.
func (o *orchard) set(t *testing.T, server string, state namespace.State) {
	t.Helper()
	e, err := o.API.EntryAt(t.Context(), "garden", "store")
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range e.Locations {
		if l.Server == server && l.State != state {
			if _, err := o.API.EditLocation(t.Context(), "garden", e, l.ID, model.EditLocation{State: state, Why: "for the test"}); err != nil {
				t.Fatal(err)
			}
		}
	}
}

// smb runs commands of a client at a front, as a person.
func (o *orchard) smb(at *harness.Mover, person, commands string) string {
	out, err := exec.Command("smbclient", "//"+at.Beside.Address+"/garden", "-U", person+"%"+standintest.Password(person), "-m", "SMB3", "-c", commands).CombinedOutput()
	if err != nil {
		return fmt.Sprintf("%s%v", out, err)
	}
	return string(out)
}

// reads is what a person reads from a file behind a signpost of a front.
func (o *orchard) reads(t *testing.T, at *harness.Mover, person, folder, file string) string {
	t.Helper()
	to := filepath.Join(t.TempDir(), "read")
	said := o.smb(at, person, fmt.Sprintf("cd %s; get %s %s", folder, file, to))
	text, err := os.ReadFile(to)
	if err != nil {
		return said
	}
	return string(text)
}

// soon waits until people are led to a server, and tells how long that took.
func (o *orchard) soon(t *testing.T, what string, at *harness.Mover, server string, most time.Duration) {
	t.Helper()
	began := time.Now()
	await(t, what, func() bool { return o.link(t, at, "store") == server })
	if took := time.Since(began); took > most {
		t.Errorf("%s took %v", what, took)
	}
	if got := o.reads(t, at, "ada", "store", "here.txt"); got != server {
		t.Errorf("%s: ada reads %q, want %q", what, got, server)
	}
}

// link is the server that a link leads to first.
func (o *orchard) link(t *testing.T, at *harness.Mover, path string) string {
	t.Helper()
	text, err := os.Readlink(filepath.Join(at.Beside.FrontsFolder(), "garden", path))
	if err != nil {
		return err.Error()
	}
	for name, address := range map[string]string{"oak": o.Oak.Address, "elm": o.Elm.Address} {
		if _, to, _ := strings.Cut(text, ":"); strings.HasPrefix(to, address+`\`) {
			return name
		}
	}
	return text
}

func testFrontAdd(t *testing.T, o *orchard) {
	ctx := t.Context()
	n := model.NewFront{Server: "bracken", Share: "garden", Namespace: "garden", Comment: "The garden", CheckAs: &model.FrontCheckAs{Account: "ada", Password: standintest.Password("ada")}, Rehearse: true}
	plan, err := o.API.AddFront(ctx, n)
	if err != nil || !plan.Rehearsed || len(plan.Steps) != 4 || len(plan.Lines) == 0 || finding.Worst(plan.Checks) == finding.Fail {
		t.Fatalf("planned %+v, %v", plan, err)
	}
	if said := o.smb(o.low, "ada", "ls"); !strings.Contains(said, "BAD_NETWORK_NAME") {
		t.Errorf("the rehearsal offered it: %s", said)
	}
	for what, c := range map[string]struct {
		change func(*model.NewFront)
		field  string
	}{
		"a file server without a mover": {func(n *model.NewFront) { n.Server = "oak" }, "server"},
		"a share that cannot be":        {func(n *model.NewFront) { n.Share = "a[b]" }, "share"},
		"a branch that is a signpost":   {func(n *model.NewFront) { n.Branch = "store" }, "branch"},
		"no password":                   {func(n *model.NewFront) { n.CheckAs = &model.FrontCheckAs{Account: "ada"}; n.Rehearse = false }, "checkAs.password"},
	} {
		bad := n
		c.change(&bad)
		_, err := o.API.AddFront(ctx, bad)
		refused(t, what, err, 422, c.field)
	}
	plain := harness.StartMover(t)
	if _, err := o.API.AddServer(ctx, plain.NewServer("reed", "Lowland")); err != nil {
		t.Fatal(err)
	}
	bare := n
	bare.Server = "reed"
	if plan, err := o.API.AddFront(ctx, bare); err != nil || !slices.ContainsFunc(plan.Checks, func(f finding.Finding) bool { return f.Severity == finding.Fail && f.Code == "file-service" }) {
		t.Errorf("at a mover without a file service: %+v, %v", plan.Checks, err)
	}
	foreign := filepath.Join(o.low.Beside.FrontsFolder(), "garden")
	if err := os.MkdirAll(filepath.Join(foreign, "mine"), 0o755); err != nil {
		t.Fatal(err)
	}
	if plan, err := o.API.AddFront(ctx, n); err != nil || !slices.ContainsFunc(plan.Checks, func(f finding.Finding) bool { return f.Severity == finding.Fail && f.Code == "folder" }) {
		t.Errorf("over what is somebody's: %+v, %v", plan.Checks, err)
	}
	if err := os.RemoveAll(foreign); err != nil {
		t.Fatal(err)
	}
	for _, at := range []string{"bracken", "bluebell"} {
		n.Server, n.Rehearse = at, false
		made, err := o.API.AddFront(ctx, n)
		if err != nil {
			t.Fatal(err)
		}
		for _, step := range made.Steps {
			if step.State != model.StepDone {
				t.Errorf("%s: %+v", at, step)
			}
		}
		if f := made.Front; f.State != model.FrontCurrent || f.Folders != 1 || f.Links != 2 {
			t.Errorf("%s is %+v", at, f)
		}
	}
	n.Server = "bracken"
	_, err = o.API.AddFront(ctx, n)
	refused(t, "the same front twice", err, 409, "share")
	if said := o.smb(o.low, "ada", "ls; cd papers; ls"); !strings.Contains(said, "store") || !strings.Contains(said, "quiet") {
		t.Errorf("ada sees %s", said)
	}
	if said := o.smb(o.low, "ada", "mkdir fresh"); !strings.Contains(said, "ACCESS_DENIED") && !strings.Contains(said, "WRITE_PROTECTED") {
		t.Errorf("ada writes into the namespace: %s", said)
	}
	if said := o.smb(o.low, "warden", "cd store; mkdir fresh; cd fresh; ls"); strings.Contains(said, "NT_STATUS") {
		t.Errorf("through the front: %s", said)
	}
}

func testFrontOrder(t *testing.T, o *orchard) {
	for at, server := range map[*harness.Mover]string{o.low: "oak", o.up: "elm"} {
		o.soon(t, "at its site", at, server, 10*time.Second)
	}
	d, err := o.API.WhereThroughFront(t.Context(), "/garden/store/2026", "Upland", "", false)
	if err != nil || d.Through != "bluebell/garden" || len(d.Directions) != 2 || d.Directions[0].Server != "elm" || !strings.HasSuffix(d.Opens, `\garden\store\2026`) {
		t.Errorf("through the front: %+v, %v", d, err)
	}
	o.set(t, "elm", namespace.Held)
	o.soon(t, "holding the near one", o.up, "oak", time.Second)
	o.set(t, "elm", namespace.Open)
	o.soon(t, "opening it again", o.up, "elm", time.Second)
	testFrontCost(t, o)
	e, err := o.API.EntryAt(t.Context(), "garden", "store")
	if err != nil {
		t.Fatal(err)
	}
	if e, err = o.API.EditEntry(t.Context(), "garden", e, model.EditEntry{Path: "papers/depot"}); err != nil {
		t.Fatal(err)
	}
	await(t, "the entry to be moved", func() bool {
		return o.link(t, o.low, "papers/depot") == "oak" && strings.Contains(o.link(t, o.low, "store"), "no such file")
	})
	if _, err := o.API.EditEntry(t.Context(), "garden", e, model.EditEntry{Path: "store"}); err != nil {
		t.Fatal(err)
	}
	o.soon(t, "moving it back", o.low, "oak", 2*time.Second)
}

// The order follows the cost of legs, within a second.
func testFrontCost(t *testing.T, o *orchard) {
	ctx := t.Context()
	if _, err := o.API.AddSite(ctx, model.NewSite{Name: "Marsh"}); err != nil {
		t.Fatal(err)
	}
	legs := func(low, up int) {
		t.Helper()
		for site, cost := range map[string]int{"Lowland": low, "Upland": up} {
			if _, err := o.API.SetLeg(ctx, namespace.Leg{From: "Marsh", To: site, Mbit: 100, RTT: 10, Cost: cost}); err != nil {
				t.Fatal(err)
			}
		}
	}
	move := func(site string) {
		t.Helper()
		if _, err := o.API.EditServer(ctx, "bluebell", model.EditServer{Site: &site}); err != nil {
			t.Fatal(err)
		}
	}
	legs(5, 35)
	move("Marsh")
	o.soon(t, "seen from another site", o.up, "oak", 10*time.Second)
	legs(35, 5)
	o.soon(t, "at another cost", o.up, "elm", time.Second)
	legs(5, 35)
	o.soon(t, "and back", o.up, "oak", time.Second)
	move("Upland")
	o.soon(t, "at its own site again", o.up, "elm", 10*time.Second)
}

// Drives for people lead through the front of their site, and stay the same when the server behind a
// signpost changes; the lens stands at a front.
func testFrontMappings(t *testing.T, o *orchard) {
	ctx := t.Context()
	ask := model.AskMappings{For: "ada", From: "Lowland", Format: mapping.Batch}
	m, err := o.API.Mappings(ctx, "garden", ask, true)
	if err != nil || m.Through != `\\`+o.low.Address+`\garden` || len(m.Mappings) != 2 {
		t.Fatalf("mappings %+v, %v", m, err)
	}
	for _, d := range m.Mappings {
		if d.Host != o.low.Address || d.Share != "garden" || "/garden/"+d.Sub != d.Path || d.Instead == "" {
			t.Errorf("mapped is %+v", d)
		}
	}
	o.set(t, "oak", namespace.Held)
	again, err := o.API.Mappings(ctx, "garden", ask, false)
	if err != nil || len(again.Changes) > 0 {
		t.Errorf("with another server behind it: %+v, %v", again.Changes, err)
	}
	o.set(t, "oak", namespace.Open)
	straight, err := o.API.Mappings(ctx, "garden", model.AskMappings{For: "ada", Format: mapping.Batch}, false)
	if err != nil || straight.Through != "" || straight.Mappings[0].Instead != "" {
		t.Errorf("without a site: %+v, %v", straight, err)
	}
	lens, err := o.API.Lens(ctx, "garden", "Upland", "ada", "front")
	if err != nil || len(lens.Seen) != 2 || !slices.ContainsFunc(lens.Seen, func(s model.Seen) bool { return s.Path == "/garden/store" && s.Location == "elm/store" }) {
		t.Errorf("through the lens: %+v, %v", lens, err)
	}
	_, err = o.API.Lens(ctx, "garden", "", "ada", "front")
	refused(t, "a front of no site", err, 422, "from")
}

// A front of a branch shows that alone. When the branch is moved, it stays as it is, and says why.
func testFrontBranch(t *testing.T, o *orchard) {
	ctx := t.Context()
	made, err := o.API.AddFront(ctx, model.NewFront{Server: "bluebell", Share: "papers", Namespace: "garden", Branch: "/PAPERS/"})
	if err != nil || made.Front.Branch != "papers" || made.Front.Links != 1 {
		t.Fatalf("made %+v, %v", made.Front, err)
	}
	link := filepath.Join(o.up.Beside.FrontsFolder(), "papers", "quiet")
	if _, err := os.Readlink(link); err != nil {
		t.Error(err)
	}
	e, err := o.API.EntryAt(ctx, "garden", "papers")
	if err != nil {
		t.Fatal(err)
	}
	if e, err = o.API.EditEntry(ctx, "garden", e, model.EditEntry{Path: "documents"}); err != nil {
		t.Fatal(err)
	}
	await(t, "the front to say that its branch is gone", func() bool {
		f, err := o.API.Front(ctx, "bluebell", "papers")
		return err == nil && f.State == model.FrontFailing && strings.Contains(f.Trouble, "no folder")
	})
	if _, err := os.Readlink(link); err != nil {
		t.Errorf("people lose what they saw: %v", err)
	}
	if _, err := o.API.EditEntry(ctx, "garden", e, model.EditEntry{Path: "papers"}); err != nil {
		t.Fatal(err)
	}
	await(t, "the front to be current again", func() bool {
		f, err := o.API.Front(ctx, "bluebell", "papers")
		return err == nil && f.State == model.FrontCurrent
	})
	if _, err := o.API.RemoveFront(ctx, "bluebell", "papers", model.RemoveFront{}); err != nil {
		t.Error(err)
	}
}

// A place that somebody may not open refuses them there, and a check says so.
func testFrontRefuses(t *testing.T, o *orchard) {
	ctx := t.Context()
	store := harness.Tree(t, o.Oak, "store")
	if err := store.Mkdir(ctx, "closed"); err != nil {
		t.Fatal(err)
	}
	d, err := acl.Parts{Owner: account.Administrators, Group: account.Administrators, Control: acl.DACLProtected}.WithEntries([]acl.Entry{{Mask: acl.AllAccess, Account: account.Administrators, Flags: acl.Everything.Flags()}}).Descriptor()
	if err == nil {
		err = store.Apply(ctx, "closed", tree.Meta{Descriptor: d})
	}
	if err != nil {
		t.Fatal(err)
	}
	if _, err := o.API.AddEntry(ctx, "garden", model.NewEntry{Path: "closed", Kind: namespace.Signpost, Locations: []model.NewLocation{{Server: "oak", Share: "store", Sub: "closed"}}}); err != nil {
		t.Fatal(err)
	}
	await(t, "the entry to be in the front", func() bool { return o.link(t, o.low, "closed") == "oak" })
	if said := o.smb(o.low, "ben", "cd closed; ls"); !strings.Contains(said, "ACCESS_DENIED") {
		t.Errorf("ben gets in: %s", said)
	}
	if said := o.smb(o.low, "warden", "cd closed; ls"); strings.Contains(said, "NT_STATUS") {
		t.Errorf("the administrator does not: %s", said)
	}
	check, err := o.API.CheckFront(ctx, "bracken", "garden", model.AskFrontCheck{As: &model.FrontCheckAs{Account: "ben", Password: standintest.Password("ben")}})
	if err != nil || !slices.ContainsFunc(check.Lines, func(f finding.Finding) bool { return f.Code == "refused" && f.Subject == "/garden/closed" }) {
		t.Errorf("as ben: %+v, %v", check, err)
	}
}

// The mover is killed in the middle of the first writing of many signposts: it goes on, and nothing
// is left beside.
func testFrontKilled(t *testing.T, o *orchard) {
	ctx := t.Context()
	const many = 4000
	if _, err := o.API.AddNamespace(ctx, model.NewNamespace{Name: "meadow"}); err != nil {
		t.Fatal(err)
	}
	d := namespace.Document{Namespace: "meadow"}
	for i := range many {
		d.Entries = append(d.Entries, namespace.DocumentEntry{Path: fmt.Sprintf("f%d/s%d", i/500, i), Locations: []namespace.DocumentLocation{{To: "oak/store"}}})
	}
	if _, err := o.API.Apply(ctx, d, "", false); err != nil {
		t.Fatal(err)
	}
	folder := filepath.Join(o.low.Beside.FrontsFolder(), "meadow")
	done := make(chan error, 1)
	go func() {
		_, err := o.API.AddFront(ctx, model.NewFront{Server: "bracken", Share: "meadow", Namespace: "meadow"})
		done <- err
	}()
	await(t, "some links to be written", func() bool { _, err := os.Lstat(filepath.Join(folder, "f0/s0")); return err == nil })
	o.low.Kill()
	o.low.Start(t)
	if err := <-done; err != nil {
		t.Errorf("made in spite of it: %v", err)
	}
	await(t, "all of it to be written", func() bool {
		f, err := o.API.Front(ctx, "bracken", "meadow")
		return err == nil && f.State == model.FrontCurrent && f.Links == many
	})
	links := 0
	if err := filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.Type()&fs.ModeSymlink != 0 {
			links++
		}
		return err
	}); err != nil || links != many {
		t.Errorf("%d links are there, %v", links, err)
	}
	if _, err := o.API.RemoveFront(ctx, "bracken", "meadow", model.RemoveFront{}); err != nil {
		t.Error(err)
	}
}

// A location that is opened because it was verified appears in the fronts by itself.
func testFrontVerified(t *testing.T, o *orchard) {
	ctx := t.Context()
	e, err := o.API.EntryAt(ctx, "garden", "papers/quiet")
	if err != nil {
		t.Fatal(err)
	}
	if e, err = o.API.AddLocation(ctx, "garden", e, model.NewLocation{Server: "elm", Share: "quiet"}); err != nil {
		t.Fatal(err)
	}
	if got := o.link(t, o.up, "papers/quiet"); got != "oak" {
		t.Errorf("before it was verified people are led to %s", got)
	}
	if _, err := o.API.VerifyLocation(ctx, "garden", e, e.Locations[1].ID, ""); err != nil {
		t.Fatal(err)
	}
	await(t, "the verified location to be in the front near it", func() bool { return o.link(t, o.up, "papers/quiet") == "elm" })
	await(t, "and in the other one", func() bool {
		text, err := os.Readlink(filepath.Join(o.low.Beside.FrontsFolder(), "garden", "papers/quiet"))
		return err == nil && strings.Contains(text, o.Oak.Address) && strings.HasSuffix(text, o.Elm.Address+`\quiet`)
	})
}

func testFrontCheck(t *testing.T, o *orchard) {
	ctx := t.Context()
	await(t, "the front to be checked by itself", func() bool {
		f, err := o.API.Front(ctx, "bracken", "garden")
		return err == nil && f.Check != nil
	})
	check, err := o.API.CheckFront(ctx, "bracken", "garden", model.AskFrontCheck{})
	if err != nil || check.Outcome != finding.Pass {
		t.Errorf("checked: %+v, %v", check, err)
	}
	_, err = o.API.CheckFront(ctx, "bracken", "garden", model.AskFrontCheck{As: &model.FrontCheckAs{Account: "ada"}})
	refused(t, "a check without a password", err, 422, "as")
	check, err = o.API.CheckFront(ctx, "bracken", "garden", model.AskFrontCheck{As: &model.FrontCheckAs{Account: "ada", Password: "wrong"}})
	if err != nil || check.Outcome != finding.Fail || check.Lines[0].Code != "sign-in" {
		t.Errorf("with a wrong password: %+v, %v", check, err)
	}
}

func testFrontForeign(t *testing.T, o *orchard) {
	folder := filepath.Join(o.low.Beside.FrontsFolder(), "garden")
	if err := os.WriteFile(filepath.Join(folder, "mine.txt"), []byte("mine"), 0o644); err != nil {
		t.Fatal(err)
	}
	// In the way of an entry that comes: told, and written once it is gone.
	blocked := filepath.Join(folder, "blocked")
	if err := os.Mkdir(blocked, 0o755); err != nil {
		t.Fatal(err)
	}
	e, err := o.API.AddEntry(t.Context(), "garden", model.NewEntry{Path: "blocked", Kind: namespace.Signpost, Locations: []model.NewLocation{{Server: "oak", Share: "store"}}})
	if err != nil {
		t.Fatal(err)
	}
	await(t, "the front to say what is in the way", func() bool {
		f, err := o.API.Front(t.Context(), "bracken", "garden")
		return err == nil && f.State == model.FrontFailing && strings.Contains(f.Trouble, "blocked")
	})
	if err := os.Remove(blocked); err != nil {
		t.Fatal(err)
	}
	await(t, "it to be written once nothing is in its way", func() bool { return o.link(t, o.low, "blocked") == "oak" })
	if err := o.API.RemoveEntry(t.Context(), "garden", e); err != nil {
		t.Fatal(err)
	}
	await(t, "it to be gone again", func() bool { _, err := os.Lstat(blocked); return os.IsNotExist(err) })
	if err := os.Remove(filepath.Join(folder, "store")); err != nil {
		t.Fatal(err)
	}
	o.low.Kill()
	o.low.Start(t)
	await(t, "what was lost to be written again", func() bool { return o.link(t, o.low, "store") == "oak" })
	await(t, "what is foreign to be told", func() bool {
		f, err := o.API.Front(t.Context(), "bracken", "garden")
		return err == nil && f.State == model.FrontCurrent && slices.Contains(f.Foreign, "mine.txt") && f.CaughtUpChanges == 1
	})
}

// While its mover is away a front answers as it was last written, and catches up afterwards.
func testFrontAway(t *testing.T, o *orchard) {
	o.up.Kill()
	o.set(t, "elm", namespace.Held)
	await(t, "the front to be away", func() bool {
		f, err := o.API.Front(t.Context(), "bluebell", "garden")
		return err == nil && f.State == model.FrontAway && f.Trouble != ""
	})
	if got := o.reads(t, o.up, "ben", "store", "here.txt"); got != "elm" {
		t.Errorf("while its mover is away: %s", got)
	}
	if err := o.Freeze(); err != nil {
		t.Fatal(err)
	}
	if got := o.reads(t, o.up, "ben", "store", "here.txt"); got != "elm" {
		t.Errorf("while Bridge Span is away as well: %s", got)
	}
	if err := o.Thaw(); err != nil {
		t.Fatal(err)
	}
	o.up.Start(t)
	o.soon(t, "catching up", o.up, "oak", 20*time.Second)
	o.set(t, "elm", namespace.Open)
	o.soon(t, "and on", o.up, "elm", time.Second)
}

// When the server of the first location hangs, and takes connections without a word, the fronts lead past it.
func testFrontServerHangs(t *testing.T, o *orchard) {
	if err := o.Elm.Freeze(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = o.Elm.Thaw() })
	o.soon(t, "leading past a server that hangs", o.up, "oak", 5*time.Second)
	if err := o.Elm.Thaw(); err != nil {
		t.Fatal(err)
	}
	o.soon(t, "leading to it again", o.up, "elm", 20*time.Second)
}

// When the server of the first location is killed, the fronts lead to the next one.
func testFrontServerKilled(t *testing.T, o *orchard) {
	o.Elm.Halt()
	o.soon(t, "leading past a server that is away", o.up, "oak", 5*time.Second)
	if err := o.Elm.Restart(); err != nil {
		t.Fatal(err)
	}
	o.soon(t, "leading to it again", o.up, "elm", 20*time.Second)
}

func testFrontRemove(t *testing.T, o *orchard) {
	ctx := t.Context()
	err := o.API.RemoveServer(ctx, "bracken", false)
	refused(t, "the host of a front", err, 409, "")
	for _, at := range []string{"bracken", "bluebell"} {
		plan, err := o.API.RemoveFront(ctx, at, "garden", model.RemoveFront{Rehearse: true})
		if err != nil || !plan.Rehearsed || len(plan.Steps) != 4 {
			t.Errorf("%s: rehearsed %+v, %v", at, plan, err)
		}
		if _, err := o.API.RemoveFront(ctx, at, "garden", model.RemoveFront{}); err != nil {
			t.Errorf("%s: %v", at, err)
		}
	}
	if said := o.smb(o.low, "ada", "ls"); !strings.Contains(said, "BAD_NETWORK_NAME") {
		t.Errorf("it is still offered: %s", said)
	}
	left, err := os.ReadDir(filepath.Join(o.low.Beside.FrontsFolder(), "garden"))
	if err != nil || len(left) != 1 || left[0].Name() != "mine.txt" {
		t.Errorf("left are %v, %v", left, err)
	}
	if _, err := os.Stat(filepath.Join(o.up.Beside.FrontsFolder(), "garden")); !os.IsNotExist(err) {
		t.Errorf("the folder of the other front: %v", err)
	}
	if got := o.Oak.SharePath("store"); got != "" {
		if _, err := os.Stat(filepath.Join(got, "here.txt")); err != nil {
			t.Errorf("the files went with the front: %v", err)
		}
	}
}
