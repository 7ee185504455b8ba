package e2e

import (
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"bridgespan/client"
	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/core/paths"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/standin/database"
	"bridgespan/standin/domain"
	"bridgespan/standin/fileserver"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// grove is a domain with a member server, a server that stands alone, and the service.
type grove struct {
	*harness.Service
	api    *client.Client
	domain *domain.Controller
	oak    *fileserver.Server // a member
	elm    *fileserver.Server // stands alone
}

func startGrove(t *testing.T) *grove {
	t.Helper()
	g := &grove{}
	var db *database.Server
	var group sync.WaitGroup
	group.Go(func() { g.domain = standintest.Domain(t) })
	group.Go(func() { g.elm = standintest.FileServer(t, "elm", "store", "quiet") })
	group.Go(func() { db = standintest.Database(t) })
	group.Wait()
	if t.Failed() {
		t.FailNow()
	}
	g.oak = standintest.Member(t, g.domain, "oak", "store", "papers")
	g.Service = harness.StartService(t, db, "")
	g.api = g.Service.SetUp(t)
	if _, err := g.api.AddSite(t.Context(), model.NewSite{Name: "Lowland"}); err != nil {
		t.Fatal(err)
	}
	oak := harness.NewServer("oak", "Lowland", g.oak)
	oak.Domain = "GROVE"
	for _, s := range []model.NewServer{oak, harness.NewServer("elm", "Lowland", g.elm)} {
		if _, err := g.api.AddServer(t.Context(), s); err != nil {
			t.Fatal(err)
		}
	}
	return g
}

func (g *grove) as(t *testing.T, server *fileserver.Server, person string) *smb.Session {
	t.Helper()
	target := smb.Target{Address: server.HostPort(), Account: person, Password: standintest.Password(person)}
	if server == g.oak {
		target.Domain = "GROVE"
	}
	s, err := smb.Dial(t.Context(), target)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func (g *grove) tree(t *testing.T, server *fileserver.Server, person, share string) *smb.Tree {
	t.Helper()
	tr, err := g.as(t, server, person).Tree(t.Context(), share, "")
	if err != nil {
		t.Fatal(err)
	}
	return tr
}

// What is said, shown and changed about servers, shares, accounts and
// permissions is what real servers of a real domain then do.
func TestServersSharesAndRights(t *testing.T) {
	t.Parallel()
	g := startGrove(t)
	t.Run("the domain", func(t *testing.T) { testDirectory(t, g) })
	t.Run("accounts", func(t *testing.T) { testAccounts(t, g) })
	t.Run("shares", func(t *testing.T) { testShares(t, g) })
	t.Run("who may do what", func(t *testing.T) { testRights(t, g) })
	t.Run("changing rights", func(t *testing.T) { testRightsChanges(t, g) })
	t.Run("a server that goes away half-way", func(t *testing.T) { testHalfway(t, g) })
	t.Run("surveys", func(t *testing.T) { testSurveys(t, g) })
	t.Run("migrations", func(t *testing.T) { testMigrations(t, g) })
	t.Run("the command line", func(t *testing.T) { testRightsCommands(t, g) })
}

func testDirectory(t *testing.T, g *grove) {
	ca, err := os.ReadFile(g.domain.CA())
	if err != nil {
		t.Fatal(err)
	}
	n := model.NewDirectory{Address: g.domain.Address, Account: g.domain.UserName("cara"), Password: standintest.Password("cara"), CA: string(ca)}
	for _, c := range []struct {
		what, field string
		change      func(*model.NewDirectory)
	}{
		{"a wrong password", "password", func(n *model.NewDirectory) { n.Password = "wrong" }},
		{"no certificate", "ca", func(n *model.NewDirectory) { n.CA = "" }},
		{"nobody there", "address", func(n *model.NewDirectory) { n.Address = "127.0.0.9" }},
		{"an address with a port", "address", func(n *model.NewDirectory) { n.Address = "a b" }},
	} {
		bad := n
		c.change(&bad)
		_, err := g.api.AddDirectory(t.Context(), bad)
		refused(t, c.what, err, http.StatusUnprocessableEntity, c.field)
	}
	before, err := g.api.RightsAs(t.Context(), "oak/store", "ada")
	if err != nil || before.Complete || !strings.Contains(before.Missing, "directory add") {
		t.Errorf("without the directory a token is said to be complete: %+v, %v", before, err)
	}
	d, err := g.api.AddDirectory(t.Context(), n)
	if err != nil || d.Name != "GROVE" || d.SID != g.domain.SID {
		t.Fatalf("%+v, %v", d, err)
	}
	_, err = g.api.AddDirectory(t.Context(), n)
	refused(t, "the same domain twice", err, http.StatusConflict, "")
}

func testAccounts(t *testing.T, g *grove) {
	ctx := t.Context()
	list, err := g.api.Accounts(ctx, "", "GROVE", "birch")
	if err != nil || len(list.Accounts) != 1 || list.Accounts[0].Name != `GROVE\ada` {
		t.Errorf("birch: %+v, %v", list, err)
	}
	detail, err := g.api.Account(ctx, "oak", "ada")
	if err != nil || !detail.Complete {
		t.Fatalf("%+v, %v", detail, err)
	}
	i := slices.IndexFunc(detail.Groups, func(b model.Belonging) bool { return b.Group.Name == `GROVE\everybody-here` })
	if i < 0 || strings.Join(detail.Groups[i].Path, " ") != `GROVE\keepers GROVE\staff GROVE\everybody-here` {
		t.Errorf("ada's groups %+v", detail.Groups)
	}
	if _, err := g.api.CreateLocalGroup(ctx, "oak", "ledger writers"); err != nil {
		t.Fatal(err)
	}
	_, err = g.api.CreateLocalGroup(ctx, "oak", "ledger writers")
	refused(t, "the same group twice", err, http.StatusConflict, "name")
	_, err = g.api.CreateLocalGroup(ctx, "oak", `a\b`)
	refused(t, "a name with a backslash", err, http.StatusUnprocessableEntity, "name")
	if err := g.api.SetMember(ctx, "oak", "ledger writers", `GROVE\keepers`, true); err != nil {
		t.Fatal(err)
	}
	err = g.api.SetMember(ctx, "oak", "ledger writers", `GROVE\keepers`, true)
	refused(t, "the same member twice", err, http.StatusConflict, "account")
	if detail, err = g.api.Account(ctx, "oak", "ada"); err != nil || !slices.ContainsFunc(detail.Groups, func(b model.Belonging) bool {
		return b.Group.Name == `oak\ledger writers` && b.Group.Origin == account.OfServer && len(b.Path) == 2
	}) {
		t.Errorf("ada's groups with that of the server %+v, %v", detail.Groups, err)
	}
	group, err := g.api.Account(ctx, "oak", "ledger writers")
	if err != nil || len(group.Members) != 1 || group.Members[0].Name != `GROVE\keepers` {
		t.Errorf("members %+v, %v", group.Members, err)
	}
	// The same name in two places is asked about, not guessed.
	if _, err := g.api.CreateLocalUser(ctx, "oak", model.NewLocalUser{Name: "cara", Password: "mossy-9-Stones"}); err != nil {
		t.Fatal(err)
	}
	_, err = g.api.Account(ctx, "oak", "cara")
	refused(t, "a name in two places", err, http.StatusUnprocessableEntity, "account")
	if !strings.Contains(err.Error(), `GROVE\cara`) || !strings.Contains(err.Error(), `oak\cara`) {
		t.Errorf("the two places are not named: %v", err)
	}
	_, err = g.api.Account(ctx, "oak", "nobody-here")
	refused(t, "an unknown account", err, http.StatusUnprocessableEntity, "account")
	_, err = g.api.Account(ctx, "oak", "S-1-x")
	refused(t, "a malformed SID", err, http.StatusUnprocessableEntity, "account")
	if err := g.api.SetMember(ctx, "oak", "ledger writers", `GROVE\keepers`, false); err != nil {
		t.Error(err)
	}
	if err := g.api.RemoveLocalGroup(ctx, "oak", "ledger writers"); err != nil {
		t.Error(err)
	}
	refused(t, "Builtin is removed", g.api.RemoveLocalGroup(ctx, "oak", "Administrators"), http.StatusUnprocessableEntity, "group")
	use, err := g.api.ServerUse(ctx, "oak")
	if err != nil || len(use.Sessions) == 0 {
		t.Errorf("who is connected: %+v, %v", use, err)
	}
}

// testShares makes a share, and finds that people may do through it exactly
// what was shown beforehand.
func testShares(t *testing.T, g *grove) {
	ctx := t.Context()
	parent := acl.Parts{Owner: account.Administrators, Group: account.Administrators, Control: acl.DACLProtected}.WithEntries([]acl.Entry{
		{Mask: acl.AllAccess, Account: account.Administrators, Flags: acl.Everything.Flags()}, {Mask: acl.Change.Mask(), Account: g.sid(t, "staff"), Flags: acl.Everything.Flags()}})
	g.setTop(t, "store", parent)
	yes, note := true, "Loans, by year"
	n := model.NewShare{Name: "loans", Path: "store:out/2026", ShareSettings: model.ShareSettings{Note: &note, HideUnreadable: &yes, Offline: "never",
		Access: []model.ShareGrant{{Account: "keepers", Level: acl.Change}, {Account: "everybody-here", Level: acl.Read}}}, Rehearse: true}
	plan, err := g.api.CreateShare(ctx, "oak", n)
	if err != nil || !plan.NewFolder || len(plan.Steps) != 4 || !plan.Rehearsed {
		t.Fatalf("plan %+v, %v", plan, err)
	}
	if _, err := g.api.ShareNow(ctx, "oak", "loans"); err == nil {
		t.Error("the rehearsal made the share")
	}
	if _, err := os.Stat(filepath.Join(g.oak.SharePath("store"), "out")); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("the rehearsal made the folder: %v", err)
	}
	for _, c := range []struct {
		what, field string
		status      int
		change      func(*model.NewShare)
	}{
		{"a name that is taken", "name", 422, func(n *model.NewShare) { n.Name = "STORE" }},
		{"a reserved name", "name", 422, func(n *model.NewShare) { n.Name = "IPC$" }},
		{"a path that is none", "path", 422, func(n *model.NewShare) { n.Path = "out" }},
		{"a path that leads out", "path", 422, func(n *model.NewShare) { n.Path = `C:\data\..\etc` }},
		{"a share that is not there", "path", 422, func(n *model.NewShare) { n.Path = "nothing:out" }},
		{"a folder that is not there, outside of all shares", "path", 422, func(n *model.NewShare) { n.Path = "/no/such/folder" }},
		{"an unknown account", "access", 422, func(n *model.NewShare) { n.Access = []model.ShareGrant{{Account: "nobody-here", Level: acl.Read}} }},
	} {
		bad := n
		bad.Rehearse = false
		c.change(&bad)
		_, err := g.api.CreateShare(ctx, "oak", bad)
		refused(t, c.what, err, c.status, c.field)
	}
	n.Rehearse = false
	made, err := g.api.CreateShare(ctx, "oak", n)
	if err != nil {
		t.Fatal(err)
	}
	for i, s := range made.Steps {
		if s.State != "done" || s.Text != plan.Steps[i].Text {
			t.Errorf("step %+v, planned %+v", s, plan.Steps[i])
		}
	}
	rights, err := g.api.Rights(ctx, "oak/loans")
	if err != nil || rights.File.Descriptor == "" || rights.File.Sentence != plan.Folder.Sentence && !strings.Contains(rights.File.Sentence, "staff") {
		t.Errorf("the folder is %+v, planned %+v, %v", rights.File.Sentence, plan.Folder.Sentence, err)
	}
	// ada keeps, ben is of the staff, cara is nobody.
	for person, want := range map[string]acl.Level{"ada": acl.Change, "ben": acl.Read, "GROVE\\cara": acl.None} {
		e, err := g.api.RightsAs(ctx, "oak/loans", person)
		if err != nil || e.Level != want || !e.Complete {
			t.Errorf("%s has %s, want %s; %v", person, e.Level, want, err)
		}
		g.checkByUse(t, "loans", strings.TrimPrefix(person, `GROVE\`), want)
	}
	out, err := exec.Command("smbclient", "//"+g.oak.Address+"/loans", "-p", fmt.Sprint(g.oak.Port), "-W", "GROVE", "-U", "ada%"+standintest.Password("ada"), "-c", "ls").CombinedOutput()
	if err != nil {
		t.Errorf("smbclient: %v: %s", err, out)
	}
	now, err := g.api.ShareNow(ctx, "oak", "loans")
	if err != nil || !now.HideUnreadable || now.Encrypt || now.Offline != "never" || now.Note != note || len(now.Access) != 2 {
		t.Errorf("the share is %+v, %v", now, err)
	}
	_, err = g.api.CreateShare(ctx, "oak", n)
	refused(t, "the same share twice", err, http.StatusUnprocessableEntity, "name")
	testShareEdit(t, g)
}

func testShareEdit(t *testing.T, g *grove) {
	ctx := t.Context()
	other := "changed"
	rehearsed, err := g.api.EditShare(ctx, "oak", "loans", model.EditShare{ShareSettings: model.ShareSettings{Note: &other, ReadOnly: true}, Rehearse: true})
	if err != nil || len(rehearsed.Steps) != 1 {
		t.Errorf("%+v, %v", rehearsed, err)
	}
	if _, err := g.api.EditShare(ctx, "oak", "loans", model.EditShare{ShareSettings: model.ShareSettings{Note: &other, ReadOnly: true}}); err != nil {
		t.Fatal(err)
	}
	if e, err := g.api.RightsAs(ctx, "oak/loans", "ada"); err != nil || e.Level != acl.Read || e.File != acl.Change {
		t.Errorf("through a share that only reads, ada has %+v, %v", e, err)
	}
	g.checkByUse(t, "loans", "ada", acl.Read)
	held, err := g.tree(t, g.oak, "ada", "loans").Open(ctx, "from the warden.txt")
	if err != nil {
		t.Fatal(err)
	}
	plan, err := g.api.RemoveShare(ctx, "oak", "loans", true, false)
	if err != nil || len(plan.Connected) == 0 || !strings.Contains(plan.Connected[0], "ada has loans/from the warden.txt open") {
		t.Errorf("who is connected: %+v, %v", plan.Connected, err)
	}
	held.Close()
	if _, err := g.api.AddNamespace(ctx, model.NewNamespace{Name: "glade"}); err != nil {
		t.Fatal(err)
	}
	entry, err := g.api.AddEntry(ctx, "glade", model.NewEntry{Path: "loans", Kind: namespace.Signpost, Locations: []model.NewLocation{{Server: "oak", Share: "loans"}}})
	if err != nil {
		t.Fatal(err)
	}
	_, err = g.api.RemoveShare(ctx, "oak", "loans", false, false)
	refused(t, "a share that a signpost leads to", err, http.StatusConflict, "share")
	if r, err := g.api.Rights(ctx, "/glade/loans"); err != nil || r.Place.Server != "oak" || r.Place.Asked != "/glade/loans" {
		t.Errorf("by way of the namespace: %+v, %v", r.Place, err)
	}
	// A signpost that would lead nowhere is not touched; one that leads elsewhere, too, is.
	if plan, err := g.api.RemoveShare(ctx, "oak", "loans", true, true); err != nil || !slices.ContainsFunc(plan.Advice, func(a finding.Finding) bool {
		return a.Severity == finding.Fail && strings.Contains(a.Found, "/glade/loans")
	}) {
		t.Errorf("the rehearsal does not say so: %+v, %v", plan.Advice, err)
	}
	if _, err := g.api.RemoveShare(ctx, "oak", "loans", false, true); err == nil || !strings.Contains(err.Error(), "/glade/loans") {
		t.Errorf("the only location of a signpost goes with the share: %v", err)
	}
	if _, err := g.api.AddLocation(ctx, "glade", entry, model.NewLocation{Server: "oak", Share: "store"}); err != nil {
		t.Fatal(err)
	}
	if _, err := g.api.RemoveShare(ctx, "oak", "loans", false, true); err != nil {
		t.Fatal(err)
	}
	if left, err := g.api.EntryAt(ctx, "glade", "loans"); err != nil || len(left.Locations) != 1 || left.Locations[0].Share != "store" {
		t.Errorf("the signpost leads to %+v, %v", left.Locations, err)
	}
	if _, err := os.Stat(filepath.Join(g.oak.SharePath("store"), "out/2026/from the warden.txt")); err != nil {
		t.Errorf("the files went with the share: %v", err)
	}
	testShareHalfway(t, g)
}

// testShareHalfway lets the server refuse, and then go away, while it makes a
// share: what was done before is taken back, or named when that cannot be.
func testShareHalfway(t *testing.T, g *grove) {
	ctx := t.Context()
	script := filepath.Join(g.oak.Dir, "share")
	works, err := os.ReadFile(script)
	if err != nil {
		t.Fatal(err)
	}
	instead := func(text string) {
		t.Helper()
		if err := os.WriteFile(script, []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	defer instead(string(works))
	n := model.NewShare{Name: "later", Path: "store:later/on"}
	folder := filepath.Join(g.oak.SharePath("store"), "later")
	instead("#!/bin/sh\nexit 1\n")
	_, err = g.api.CreateShare(ctx, "oak", n)
	var e *client.Error
	if !errors.As(err, &e) || e.Remedy == "" || !strings.Contains(e.Detail, "taken back") {
		t.Errorf("the server refuses: %v", err)
	}
	if _, err := os.Stat(folder); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("the folder was left: %v", err)
	}
	asked, goOn := filepath.Join(t.TempDir(), "asked"), filepath.Join(t.TempDir(), "go")
	for _, pipe := range []string{asked, goOn} {
		if err := errors.Join(syscall.Mkfifo(pipe, 0o666), os.Chmod(pipe, 0o666)); err != nil {
			t.Fatal(err)
		}
	}
	instead(fmt.Sprintf("#!/bin/sh\necho asked >%s\nread answer <%s\nexit 1\n", asked, goOn))
	done := make(chan error, 1)
	go func() {
		_, err := g.api.CreateShare(ctx, "oak", n)
		done <- err
	}()
	if _, err := os.ReadFile(asked); err != nil { // until the server is about to make it
		t.Fatal(err)
	}
	g.oak.Halt()
	if pipe, err := os.OpenFile(goOn, os.O_WRONLY|syscall.O_NONBLOCK, 0); err == nil { // unless the script ended with its server
		pipe.Close()
	}
	err = <-done
	refused(t, "a server that goes away", err, http.StatusServiceUnavailable, "")
	if !strings.Contains(err.Error(), "could not create the share later") || !strings.Contains(err.Error(), "done and not taken back: make the folder store/later/on") {
		t.Errorf("what was done is not said: %v", err)
	}
	if err := g.oak.Restart(); err != nil {
		t.Fatal(err)
	}
	instead(string(works))
	// Asked for again, it is finished from where it was left.
	plan, err := g.api.CreateShare(ctx, "oak", n)
	if err != nil || plan.NewFolder || len(plan.Steps) != 1 || plan.Steps[0].State != "done" {
		t.Errorf("finished: %+v, %v", plan.Steps, err)
	}
	if _, err := g.api.RemoveShare(ctx, "oak", "later", false, false); err != nil {
		t.Error(err)
	}
}

func (g *grove) sid(t *testing.T, name string) account.SID {
	t.Helper()
	list, err := g.api.Accounts(t.Context(), "", "GROVE", name)
	if err != nil || len(list.Accounts) == 0 {
		t.Fatalf("%s: %+v, %v", name, list, err)
	}
	return account.MustSID(list.Accounts[0].SID)
}

func (g *grove) setTop(t *testing.T, share string, p acl.Parts) {
	t.Helper()
	d, err := p.Descriptor()
	if err != nil {
		t.Fatal(err)
	}
	if err := g.tree(t, g.oak, "warden", share).Apply(t.Context(), ".", tree.Meta{Descriptor: d}); err != nil {
		t.Fatal(err)
	}
}

// checkByUse lets a person read and write, and compares with what was said.
func (g *grove) checkByUse(t *testing.T, share, person string, level acl.Level) {
	t.Helper()
	warden := g.tree(t, g.oak, "warden", "store")
	if _, err := warden.Put(t.Context(), "out/2026/from the warden.txt", strings.NewReader("x"), tree.PutOptions{Replace: true}); err != nil {
		t.Fatal(err)
	}
	s := g.as(t, g.oak, person)
	tr, err := s.Tree(t.Context(), share, "")
	if err != nil {
		if level != acl.None {
			t.Errorf("%s is not let into %s: %v", person, share, err)
		}
		return
	}
	_, readErr := tree.ReadFile(t.Context(), tr, "from the warden.txt")
	_, writeErr := tr.Put(t.Context(), "by "+person+".txt", strings.NewReader("y"), tree.PutOptions{Replace: true})
	if got, want := readErr == nil, level != acl.None; got != want {
		t.Errorf("%s with %s reads: %v", person, level, readErr)
	}
	if got, want := writeErr == nil, level == acl.Change; got != want {
		t.Errorf("%s with %s writes: %v", person, level, writeErr)
	}
}

func testRights(t *testing.T, g *grove) {
	ctx := t.Context()
	papers := g.tree(t, g.oak, "warden", "papers")
	g.setTop(t, "papers", acl.Parts{Owner: account.Administrators, Group: account.Administrators, Control: acl.DACLProtected | acl.DACLAutoInherited}.WithEntries([]acl.Entry{
		{Mask: acl.AllAccess, Account: account.Administrators, Flags: acl.Everything.Flags()}, {Mask: acl.Change.Mask(), Account: g.sid(t, "keepers"), Flags: acl.Everything.Flags()},
		{Mask: acl.Read.Mask(), Account: g.sid(t, "everybody-here"), Flags: acl.Everything.Flags()}, {Mask: acl.Read.Mask(), Account: account.MustSID(g.domain.SID).Child(9999), Flags: acl.Everything.Flags()}}))
	if err := tree.MkdirAll(ctx, papers, "2026/spring"); err != nil {
		t.Fatal(err)
	}
	if _, err := papers.Put(ctx, "2026/spring/ledger.csv", strings.NewReader("a;b\n"), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	r, err := g.api.Rights(ctx, "oak/papers/2026/spring/ledger.csv")
	if err != nil || r.Place.Folder || len(r.File.Entries) != 4 || !r.File.Entries[1].Inherited || r.File.Entries[1].From != "/papers" {
		t.Errorf("%+v, %v", r.File, err)
	}
	if !strings.Contains(r.File.Sentence, "keepers may change this file") || !strings.Contains(r.File.Sentence, "four entries come from /papers") {
		t.Errorf("sentence: %s", r.File.Sentence)
	}
	if !slices.ContainsFunc(r.Findings, func(f finding.Finding) bool { return f.Code == string(acl.UnresolvedThere) }) {
		t.Errorf("the account that is gone is not found: %+v", r.Findings)
	}
	ada, err := g.api.RightsAs(ctx, "oak/papers/2026", "ada")
	if err != nil || ada.Level != acl.Change || ada.Reasons[0].Entry != 2 || strings.Join(ada.Reasons[0].Path, "") != `GROVE\keepers` {
		t.Errorf("ada: %+v, %v", ada, err)
	}
	ben, err := g.api.RightsAs(ctx, "oak/papers/2026", "ben")
	if err != nil || ben.Level != acl.Read || !strings.Contains(ben.Reasons[0].Text, `by way of GROVE\staff`) {
		t.Errorf("ben: %+v, %v", ben, err)
	}
	testMayThere(t, g)
	who, err := g.api.StartWhoCan(ctx, model.AskWhoCan{Path: "oak/papers/2026", Level: acl.Change})
	var names []string
	for _, p := range who.People {
		names = append(names, p.Account.Name)
	}
	if err != nil || !who.Complete || who.Run.State != model.RunDone || who.Run.Done != int64(who.Looked) || strings.Join(names, " ") != `GROVE\ada GROVE\Administrator GROVE\warden` {
		t.Errorf("who can change: %v of %d, %v", names, who.Looked, err)
	}
	f, err := g.api.Browse(ctx, "oak/papers/2026", "ben", "")
	if err != nil || len(f.Entries) != 1 || f.Entries[0].Level != acl.Read || f.Entries[0].Inherited != 4 {
		t.Errorf("browsed %+v, %v", f, err)
	}
	for path, field := range map[string]string{"oak/papers/nothing": "path", "oak/nowhere": "path", "/glade": "path", "oak": "path", "beech/store": "path"} {
		_, err := g.api.Rights(ctx, path)
		var e *client.Error
		if !errors.As(err, &e) || e.Status != 404 && e.Status != 422 || len(e.Errors) > 0 && e.Errors[0].Field != field {
			t.Errorf("%s: %v", path, err)
		}
	}
	same, err := g.api.StartComparison(ctx, "oak/papers", "oak/papers")
	if err != nil || same.Run.State != model.RunDone || len(same.Differences) != 0 || same.Looked != 4 || same.Run.Done != 4 {
		t.Errorf("a place compared with itself: %+v, %v", same, err)
	}
	differ, err := g.api.CompareRights(ctx, "oak/papers", "oak/store")
	if err != nil || len(differ.Differences) != 1 || len(differ.Differences[0].Shifts) < 2 {
		t.Errorf("two places compared: %+v, %v", differ, err)
	}
}

// testMayThere: directions for an account say what it may do where they lead,
// or why that is not known; without being asked they ask no file server.
func testMayThere(t *testing.T, g *grove) {
	ctx := t.Context()
	if _, err := g.api.AddNamespace(ctx, model.NewNamespace{Name: "may"}); err != nil {
		t.Fatal(err)
	}
	if _, err := g.api.AddEntry(ctx, "may", model.NewEntry{Path: "papers", Kind: namespace.Signpost, Locations: []model.NewLocation{{Server: "oak", Share: "papers"}}}); err != nil {
		t.Fatal(err)
	}
	d, err := g.api.WhereMay(ctx, "/may/papers/2026", "", "ben", false)
	if err != nil || d.May == nil || d.May.Level != acl.Read || len(d.May.Reasons) == 0 {
		t.Errorf("ben: %+v, %v", d.May, err)
	}
	for _, c := range []struct{ path, as string }{{"/may/papers/none", "ben"}, {"/may/papers/2026", "no.such.person"}} {
		if d, err = g.api.WhereMay(ctx, c.path, "", c.as, true); err != nil || d.May != nil || d.MayTrouble == "" || len(d.Directions) != 1 {
			t.Errorf("%s as %s: %+v, %q, %v", c.path, c.as, d.May, d.MayTrouble, err)
		}
	}
	if d, err = g.api.Where(ctx, "/may/papers/2026", "", "ben"); err != nil || d.May != nil {
		t.Errorf("unasked: %+v, %v", d.May, err)
	}
	if err := g.api.RemoveNamespace(ctx, "may", true); err != nil {
		t.Error(err)
	}
}

func testRightsChanges(t *testing.T, g *grove) {
	ctx := t.Context()
	papers := g.tree(t, g.oak, "warden", "papers")
	at := func(name string) acl.Descriptor {
		d, err := papers.Descriptor(ctx, name)
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	change := func(c model.ChangeRights) model.RightsChange {
		t.Helper()
		r, err := g.api.ChangeRights(ctx, c)
		if err != nil || r.Run.State != model.RunDone {
			t.Fatalf("%+v: %+v, %v", c, r.Run, err)
		}
		return r
	}
	const ledger = "2026/spring/ledger.csv"
	before := at(ledger)
	grant := model.ChangeRights{Path: "oak/papers/2026", Action: model.RightsGrant, Account: `GROVE\cara`, Level: acl.Change}
	rehearsal := grant
	rehearsal.Rehearse = true
	planned := change(rehearsal)
	if planned.Counts.Planned != 3 || at(ledger) != before || len(planned.Shifts) != 1 || planned.Shifts[0].After != acl.Change || planned.Objects[2].Path != ledger {
		t.Errorf("rehearsed: %+v", planned)
	}
	granted := change(grant)
	if granted.Counts.Done != 3 || at(ledger) == before || !granted.CanUndo {
		t.Errorf("granted: %+v", granted)
	}
	if at(ledger) != mustParse(t, granted.Objects[2].After) {
		t.Errorf("the ledger has %s, said was %s", at(ledger), granted.Objects[2].After)
	}
	if _, err := g.tree(t, g.oak, "cara", "papers").Put(ctx, "2026/spring/by cara.txt", strings.NewReader("x"), tree.PutOptions{}); err != nil {
		t.Errorf("cara may write, and cannot: %v", err)
	}
	undone, err := g.api.UndoRights(ctx, granted.Run.ID)
	if err != nil || undone.Counts.Undone != 3 || at(ledger) != before {
		t.Errorf("undone: %+v, %v", undone, err)
	}
	_, err = g.api.UndoRights(ctx, granted.Run.ID)
	refused(t, "undone twice", err, http.StatusPreconditionFailed, "")

	protected := change(model.ChangeRights{Path: "oak/papers/2026/spring", Action: model.RightsProtect})
	if p := at("2026/spring").Parts(); !p.Protected() || len(p.Explicit()) != 4 || protected.Counts.Done < 1 {
		t.Errorf("protected: %s", at("2026/spring"))
	}
	change(model.ChangeRights{Path: "oak/papers/2026/spring", Action: model.RightsRevoke, Account: "everybody-here"})
	if e, err := g.api.RightsAs(ctx, "oak/papers/"+ledger, "ben"); err != nil || e.Level != acl.None {
		t.Errorf("after the revocation ben has %s, %v", e.Level, err)
	}
	_, err = g.api.ChangeRights(ctx, model.ChangeRights{Path: "oak/papers/" + ledger, Action: model.RightsRevoke, Account: "keepers"})
	refused(t, "revoking what is inherited", err, http.StatusUnprocessableEntity, "account")
	change(model.ChangeRights{Path: "oak/papers/2026", Action: model.RightsReplace})
	if at(ledger) != before || at("2026/spring").Parts().Protected() {
		t.Errorf("replaced below: %s, want %s", at(ledger), before)
	}
	change(model.ChangeRights{Path: "oak/papers/2026", Action: model.RightsOwn, Account: "ada", Below: true})
	if at(ledger).Parts().Owner != g.sid(t, "ada") || at("2026").Parts().Owner != g.sid(t, "ada") {
		t.Errorf("the owner is %s", at(ledger).Parts().Owner)
	}
	change(model.ChangeRights{Path: "oak/papers/2026", Action: model.RightsOwn, Account: "Administrators", Below: true})
	_, err = g.api.ChangeRights(ctx, model.ChangeRights{Path: "oak/papers/2026/spring", Action: model.RightsProtect, Drop: true})
	refused(t, "locking ourselves out", err, http.StatusUnprocessableEntity, "action")
	change(model.ChangeRights{Path: "oak/papers/2026/spring", Action: model.RightsGrant, Account: "Administrators", Level: acl.Full})
	change(model.ChangeRights{Path: "oak/papers/2026/spring", Action: model.RightsProtect, Drop: true})
	if entries := at("2026/spring").Parts().Entries(); len(entries) != 1 {
		t.Errorf("protected and dropped: %v", entries)
	}
	change(model.ChangeRights{Path: "oak/papers/2026/spring", Action: model.RightsInherit})
	if len(at("2026/spring").Parts().Entries()) != 4 {
		t.Errorf("inherits again: %s", at("2026/spring"))
	}
	for what, c := range map[string]struct {
		field string
		ask   model.ChangeRights
	}{
		"no account":           {"account", model.ChangeRights{Path: "oak/papers", Action: model.RightsGrant, Level: acl.Read}},
		"an unknown account":   {"account", model.ChangeRights{Path: "oak/papers", Action: model.RightsGrant, Level: acl.Read, Account: "nobody-here"}},
		"inherit at the top":   {"path", model.ChangeRights{Path: "oak/papers", Action: model.RightsInherit}},
		"replace below a file": {"path", model.ChangeRights{Path: "oak/papers/" + ledger, Action: model.RightsReplace}},
	} {
		_, err := g.api.ChangeRights(ctx, c.ask)
		refused(t, what, err, http.StatusUnprocessableEntity, c.field)
	}
	testTooManyEntries(t, g)
}

func mustParse(t *testing.T, text string) acl.Descriptor {
	t.Helper()
	d, err := acl.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// testTooManyEntries grants more than the file system behind the server can
// hold: the object says so, and keeps what it had.
func testTooManyEntries(t *testing.T, g *grove) {
	papers := g.tree(t, g.oak, "warden", "papers")
	if _, err := papers.Put(t.Context(), "crowded.txt", strings.NewReader("x"), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	p := acl.Parts{Owner: account.Administrators, Group: account.Administrators, Control: acl.DACLProtected}.WithEntries(nil)
	for i := range 99 {
		p = p.WithEntries(append(p.Entries(), acl.Entry{Mask: acl.ReadAccess, Account: account.MustSID(g.domain.SID).Child(uint32(20000 + i))}))
	}
	var last acl.Descriptor
	for i := 0; ; i++ { // up to what it holds
		d, err := p.Descriptor()
		if err != nil {
			t.Fatal(err)
		}
		if err := papers.Apply(t.Context(), "crowded.txt", tree.Meta{Descriptor: d}); err != nil {
			break
		}
		if last = d; i == 100 {
			t.Skip("this file system holds very long lists")
		}
		p = p.WithEntries(append(p.Entries(), acl.Entry{Mask: acl.ReadAccess, Account: account.MustSID(g.domain.SID).Child(uint32(30000 + i))}))
	}
	r, err := g.api.ChangeRights(t.Context(), model.ChangeRights{Path: "oak/papers/crowded.txt", Action: model.RightsGrant, Account: "ada", Level: acl.Read})
	if err != nil || r.Run.State != model.RunFailed || r.Counts.Failed != 1 || !strings.Contains(r.Objects[0].Trouble, "cannot hold that many") {
		t.Errorf("one entry too many: %+v, %v", r, err)
	}
	if now, err := papers.Descriptor(t.Context(), "crowded.txt"); err != nil || now.WithoutSACL() != last {
		t.Errorf("it has %s now, %v", now, err)
	}
}

// testHalfway lets the server go away in the middle of a change: it says what
// was done and what was not, and can be finished, or undone.
func testHalfway(t *testing.T, g *grove) {
	ctx := t.Context()
	g.fillFromBeside(t, "store", "many", 40, 25)
	before, err := g.tree(t, g.oak, "warden", "store").Descriptor(ctx, "many/folder 07/file 003")
	if err != nil {
		t.Fatal(err)
	}
	asked := model.ChangeRights{Path: "oak/store/many", Action: model.RightsReplace}
	done := make(chan model.RightsChange, 1)
	go func() {
		r, err := g.api.ChangeRights(ctx, asked)
		if err != nil {
			t.Error(err)
		}
		done <- r
	}()
	id := g.awaitRights(t, func(c model.RightsChange) bool { return c.Counts.Done > 20 })
	g.oak.Halt()
	<-done
	r := g.ended(t, id)
	if r.State != model.RunFailed || !strings.Contains(r.Trouble, "stopped answering") && !strings.Contains(r.Trouble, "does not answer") || !strings.Contains(r.Trouble, "finish it") {
		t.Errorf("the run says %+v", r)
	}
	if err := g.oak.Restart(); err != nil {
		t.Fatal(err)
	}
	c, err := g.api.RightsChange(ctx, id)
	if err != nil || !c.CanFinish || !c.CanUndo || c.Counts.Planned == 0 {
		t.Errorf("half-way: %+v, %v", c.Counts, err)
	}
	if _, err := g.api.ResumeRun(ctx, id); err != nil {
		t.Fatal(err)
	}
	if r = g.ended(t, id); r.State != model.RunDone {
		t.Errorf("finished: %+v", r)
	}
	after, err := g.tree(t, g.oak, "warden", "store").Descriptor(ctx, "many/folder 07/file 003")
	if err != nil || after == before {
		t.Errorf("nothing changed: %s, %v", after, err)
	}
	undone, err := g.api.UndoRights(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	if r = g.ended(t, undone.Run.ID); r.State != model.RunDone {
		t.Errorf("undone: %+v", r)
	}
	if now, err := g.tree(t, g.oak, "warden", "store").Descriptor(ctx, "many/folder 07/file 003"); err != nil || now != before {
		t.Errorf("undone: %s, want %s, %v", now, before, err)
	}
}

// fillFromBeside makes many files without going through the server.
func (g *grove) fillFromBeside(t *testing.T, share, top string, folders, files int) {
	t.Helper()
	warden, err := g.domain.Relative("warden")
	if err != nil {
		t.Fatal(err)
	}
	give := func(name string) { // otherwise nobody at the server may change them
		if err := os.Chown(name, 200000+warden, 20000); err != nil {
			t.Fatal(err)
		}
	}
	for f := range folders {
		folder := filepath.Join(g.oak.SharePath(share), top, fmt.Sprintf("folder %02d", f))
		if err := os.MkdirAll(folder, 0o777); err != nil {
			t.Fatal(err)
		}
		give(folder)
		for i := range files {
			if err := os.WriteFile(filepath.Join(folder, fmt.Sprintf("file %03d", i)), []byte("some content"), 0o666); err != nil {
				t.Fatal(err)
			}
			give(filepath.Join(folder, fmt.Sprintf("file %03d", i)))
		}
	}
}

// awaitRights waits for the newest change of rights to be so far.
func (g *grove) awaitRights(t *testing.T, far func(model.RightsChange) bool) int64 {
	t.Helper()
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
		runs, err := g.api.Runs(t.Context(), "rights", 1)
		if err != nil {
			t.Fatal(err)
		}
		if len(runs) == 0 || runs[0].State.Ended() {
			continue
		}
		c, err := g.api.RightsChange(t.Context(), runs[0].ID)
		if err == nil && far(c) {
			return c.Run.ID
		}
	}
	runs, err := g.api.Runs(t.Context(), "rights", 3)
	t.Fatalf("the change does not come so far: %+v, %v", runs, err)
	return 0
}

// ended waits for a run to end.
func (g *grove) ended(t *testing.T, id int64) model.Run {
	t.Helper()
	watcher := watch(t, g.api)
	for deadline := time.Now().Add(2 * time.Minute); time.Now().Before(deadline); {
		r, err := g.api.Run(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		if r.State.Ended() {
			return r
		}
		watcher.next(t)
	}
	t.Fatalf("run %d does not end", id)
	return model.Run{}
}

func testSurveys(t *testing.T, g *grove) {
	ctx := t.Context()
	g.fillFromBeside(t, "papers", "bulk", 400, 20)
	oakPapers := model.SurveyPlace{Server: "oak", Share: "papers"}
	begun, err := g.api.StartSurveys(ctx, oakPapers, model.SurveyPlace{Server: "elm"})
	if err != nil || len(begun) != 3 || begun[1].Subject != "elm/quiet" || begun[2].Subject != "elm/store" {
		t.Fatalf("begun %+v, %v", begun, err)
	}
	s := begun[0]
	before, err := g.api.Runs(ctx, "survey", 100)
	if err != nil {
		t.Fatal(err)
	}
	g.ended(t, begun[1].ID)
	g.ended(t, begun[2].ID)
	for _, c := range []struct {
		field  string
		status int
		places []model.SurveyPlace
	}{
		{"places[1].share", http.StatusUnprocessableEntity, []model.SurveyPlace{{Server: "elm"}, {Server: "oak", Share: "nothing"}}},
		{"places[1].server", http.StatusNotFound, []model.SurveyPlace{{Server: "elm"}, {Server: "beech"}}},
		{"places[0].share", http.StatusUnprocessableEntity, []model.SurveyPlace{{Server: "elm", Sub: "a"}}},
	} {
		_, err = g.api.StartSurveys(ctx, c.places...)
		refused(t, c.field, err, c.status, c.field)
	}
	_, err = g.api.StartSurveys(ctx, oakPapers)
	refused(t, "the same survey twice at once", err, http.StatusConflict, "")
	if after, err := g.api.Runs(ctx, "survey", 100); err != nil || len(after) != len(before) {
		t.Errorf("%d surveys after what was refused, %d before; %v", len(after), len(before), err)
	}
	if _, err := g.api.StopRun(ctx, s.ID); err != nil {
		t.Fatal(err)
	}
	if r := g.ended(t, s.ID); r.State != model.RunStopped || r.Fraction >= 1 {
		t.Fatalf("stopped: %+v", r)
	}
	if _, err := g.api.ResumeRun(ctx, s.ID); err != nil {
		t.Fatal(err)
	}
	if r := g.ended(t, s.ID); r.State != model.RunDone || r.Rate <= 0 {
		t.Fatalf("resumed: %+v", r)
	}
	first, err := g.api.Survey(ctx, s.ID)
	if err != nil || first.Figures.Files < 8002 || first.Figures.Folders < 403 || first.Distinct < 2 || len(first.Figures.Largest) == 0 {
		t.Errorf("%d files, %d folders, %d kinds of permissions; %v", first.Figures.Files, first.Figures.Folders, first.Distinct, err)
	}
	if !slices.ContainsFunc(first.Findings, func(f finding.Finding) bool {
		return f.Code == string(acl.UnresolvedThere) && f.Count > 0 && len(f.Samples) > 0
	}) {
		t.Errorf("findings %+v", first.Findings)
	}
	papers := g.tree(t, g.oak, "warden", "papers")
	if _, err := papers.Put(ctx, "new.tif", strings.NewReader(strings.Repeat("x", 1000)), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	held, err := papers.Open(ctx, "new.tif")
	if err != nil {
		t.Fatal(err)
	}
	defer held.Close()
	closed, err := acl.Parse("D:P(A;;FA;;;SY)")
	if err != nil {
		t.Fatal(err)
	}
	if err := papers.Apply(ctx, "new.tif", tree.Meta{Descriptor: closed}); err != nil {
		t.Fatal(err)
	}
	begun, err = g.api.StartSurveys(ctx, oakPapers)
	if err != nil {
		t.Fatal(err)
	}
	again := begun[0]
	g.ended(t, again.ID)
	second, err := g.api.Survey(ctx, again.ID)
	if err != nil || !slices.ContainsFunc(second.Open, func(f model.OpenFile) bool { return f.Path == "papers/new.tif" }) {
		t.Errorf("open files %+v, %v", second.Open, err)
	}
	if first.KeptOut == nil || second.KeptOut == nil || second.KeptOut.Files != first.KeptOut.Files+1 || second.KeptOut.Tried < 2 || !slices.Contains(second.KeptOut.Samples, "new.tif") {
		t.Errorf("kept out: %+v, and %+v before", second.KeptOut, first.KeptOut)
	} else if f := second.Findings[0]; f.Code != "kept-out" || f.Count != second.KeptOut.Files {
		t.Errorf("the first finding is %+v", f)
	}
	if !slices.ContainsFunc(second.Accounts, func(a model.SurveyedAccount) bool { return a.Kind == account.Unresolved && a.Files > 0 }) || second.Settings == nil || second.Settings.Path == "" || second.Settings.Total == 0 {
		t.Errorf("accounts %+v, settings %+v", second.Accounts, second.Settings)
	}
	c, err := g.api.CompareSurveys(ctx, s.ID, again.ID)
	if err != nil || c.Figures.Files != 1 || c.Figures.Bytes != 1000 {
		t.Errorf("compared %+v, %v", c.Figures, err)
	}
	list, err := g.api.Surveys(ctx, "oak", "papers", 10)
	if err != nil || len(list) != 2 || list[0].ID != again.ID {
		t.Errorf("surveys %+v, %v", list, err)
	}
	testComparison(t, g)
	if err := g.api.RemoveRun(ctx, s.ID); err != nil {
		t.Error(err)
	}
	_, err = g.api.Survey(ctx, s.ID)
	refused(t, "a forgotten survey", err, http.StatusNotFound, "")
}

// testComparison compares two large trees. Stopping one is a test of the use case.
func testComparison(t *testing.T, g *grove) {
	ctx := t.Context()
	change, err := g.api.ChangeRights(ctx, model.ChangeRights{Path: "oak/papers", Action: model.RightsGrant, Account: `GROVE\cara`, Level: acl.Read, Scope: acl.ThisOnly})
	if err != nil {
		t.Fatal(err)
	}
	if r := g.ended(t, change.Run.ID); r.State != model.RunDone {
		t.Fatalf("%+v", r)
	}
	c, err := g.api.StartComparison(ctx, "oak/papers", "elm/store")
	if err != nil {
		t.Fatal(err)
	}
	if c = g.comparison(t, c.Run.ID); c.Run.State != model.RunDone || c.OnlyFirst < 8000 || c.Differ != 1 || c.Looked != c.Run.Done {
		t.Errorf("compared with an empty share: %+v", c)
	}
	c, err = g.api.StartComparison(ctx, "oak/papers", "oak/papers/bulk")
	if err != nil {
		t.Fatal(err)
	}
	if c = g.comparison(t, c.Run.ID); c.Run.State != model.RunDone || c.OnlyFirst < 8000 || c.OnlySecond < 8000 || c.Looked != c.Run.Done || c.Looked != c.OnlyFirst+c.OnlySecond+1 {
		t.Errorf("compared with the folder above: %+v", c.Run)
	}
	if len(c.Differences) == 0 || !slices.ContainsFunc(c.Accounts, func(a model.RightsTotal) bool { return a.Account.Name == `GROVE\cara` && a.Loses == 1 }) {
		for _, a := range c.Accounts {
			t.Errorf("%s gains on %d, loses on %d", a.Account.Name, a.Gains, a.Loses)
		}
	}
	// Every difference is listed once, and in order.
	var listed int64
	last := ""
	for cursor := ""; ; {
		page, err := g.api.Differences(ctx, c.Run.ID, "", cursor, 500)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range page.Items {
			if last != "" && paths.Order(last, d.Path) >= 0 {
				t.Fatalf("%s comes after %s", d.Path, last)
			}
			last = d.Path
			listed++
		}
		if cursor = page.Next; cursor == "" {
			break
		}
	}
	if listed != c.Differ+c.OnlyFirst+c.OnlySecond {
		t.Errorf("%d differences are listed of %+v", listed, c)
	}
	if page, err := g.api.Differences(ctx, c.Run.ID, "LEDGER", "", 10); err != nil || len(page.Items) != 1 || page.Items[0].Only != "first" {
		t.Errorf("filtered: %+v, %v", page, err)
	}
	_, err = g.api.Differences(ctx, c.Run.ID, "", "here", 10)
	refused(t, "a cursor that is none", err, http.StatusUnprocessableEntity, "cursor")
	_, err = g.api.Comparison(ctx, change.Run.ID)
	refused(t, "a run of another kind", err, http.StatusNotFound, "")
	_, err = g.api.StartComparison(ctx, "oak/papers", "oak/nowhere")
	refused(t, "a place that is not there", err, http.StatusNotFound, "second")
}

// comparison waits for a comparison to end.
func (g *grove) comparison(t *testing.T, id int64) model.RightsComparison {
	t.Helper()
	g.ended(t, id)
	c, err := g.api.Comparison(t.Context(), id)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// testRightsCommands goes through the commands as an administrator types them.
func testRightsCommands(t *testing.T, g *grove) {
	s := shell{harness.Program(t, "bspan"), t.TempDir()}
	for _, step := range []struct {
		args  []string
		input string
		code  int
		says  string
	}{
		{[]string{"--server", g.Base, "login", "--name", harness.Admin, "--password-file", "-"}, harness.Password + "\n", 0, "administrator"},
		{[]string{"directory", "list"}, "", 0, g.domain.SID},
		{[]string{"account", "list", "--domain", "GROVE", "--filter", "keep"}, "", 0, `GROVE\keepers`},
		{[]string{"account", "list", "--at", "elm"}, "", 0, `elm\keepers`},
		{[]string{"account", "list"}, "", 2, "--at SERVER"},
		{[]string{"account", "show", "--at", "oak", "ada"}, "", 0, "everybody-here"},
		{[]string{"account", "create-group", "--at", "elm", "ledgers"}, "", 0, "made the group"},
		{[]string{"account", "add-member", "--at", "elm", "ledgers", "ben"}, "", 0, "is a member"},
		{[]string{"account", "remove-member", "--at", "elm", "ledgers", "ben"}, "", 0, "no longer"},
		{[]string{"account", "remove-group", "--at", "elm", "ledgers"}, "", 0, "removed the group"},
		{[]string{"account", "create-user", "--at", "elm", "--password-file", "-", "dora"}, "mossy-9-Stones\n", 0, `elm\dora`},
		{[]string{"server", "use", "oak"}, "", 0, "warden"},
		{[]string{"rights", "oak/papers/2026"}, "", 0, "keepers may change this folder"},
		{[]string{"rights", "--as", "ada", "oak/papers/2026"}, "", 0, "entry 2 grants change to keepers"},
		{[]string{"rights", "who-can", "oak/papers/2026"}, "", 0, `GROVE\ada`},
		{[]string{"rights", "who-can", "--level", "all", "oak/papers/2026"}, "", 2, "none of full"},
		{[]string{"rights", "explain", "--at", "oak", "O:BAD:P(A;OICI;FA;;;BA)(D;;FW;;;WD)"}, "", 0, "Everyone may not"},
		{[]string{"rights", "explain", "--at", "oak", "O:BAD:(A;;FA;;;BA)(A;OX;FR;;;WD)"}, "", 2, "at character 22"},
		{[]string{"rights", "compare", "--deep", "oak/papers/2026", "oak/papers/2026"}, "", 0, "permissions are the same"},
		{[]string{"rights", "grant", "--level", "read", "--rehearse", "oak/papers/2026", `GROVE\cara`}, "", 0, "nothing was changed"},
		{[]string{"rights", "grant", "--level", "everything", "oak/papers/2026", "ada"}, "", 2, "level"},
		{[]string{"rights", "grant", "--level", "read", "oak/papers/2026", `GROVE\cara`}, "", 0, "bspan rights undo"},
		{[]string{"rights", "revoke", "oak/papers/2026", `GROVE\cara`}, "", 0, "changed"},
		{[]string{"share", "create", "--path", "store:more", "--let", "staff=change", "--offline", "never", "--rehearse", "oak", "more"}, "", 0, "Rehearsed only"},
		{[]string{"share", "create", "--path", "store:more", "--let", "staff=all", "oak", "more"}, "", 2, "LEVEL"},
		{[]string{"share", "create", "--path", "store:more", "--let", "staff=change", "oak", "more"}, "", 0, "done"},
		{[]string{"share", "list", "oak"}, "", 0, "more"},
		{[]string{"share", "show", "oak/more"}, "", 0, "staff=change"},
		{[]string{"share", "edit", "--note", "for more", "oak/more"}, "", 0, "set note"},
		{[]string{"share", "remove", "--rehearse", "oak/more"}, "", 0, "stay"},
		{[]string{"share", "remove", "oak/more"}, "", 0, "done"},
		{[]string{"share", "survey", "elm/store"}, "", 0, "0 files"},
		{[]string{"share", "surveys", "elm/store"}, "", 0, "done"},
		{[]string{"run", "list", "--kind", "survey"}, "", 0, "oak/papers"},
		{[]string{"run", "show", "x"}, "", 2, "is not a number"},
		{[]string{"--output", "json", "rights", "--as", "ben", "oak/papers/2026"}, "", 0, `"level": "read"`},
		{[]string{"directory", "remove", "GROVE"}, "", 0, "forgot"},
	} {
		out, complaint, code := s.run(t, step.input, step.args...)
		if code != step.code || !strings.Contains(out+complaint, step.says) {
			t.Errorf("bspan %s: exit %d, want %d and %q:\n%s%s", strings.Join(step.args, " "), code, step.code, step.says, out, complaint)
		}
	}
}
