package fronts_test

import (
	"context"
	"database/sql"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/mover/host"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/estate"
	"bridgespan/service/fronts"
	"bridgespan/service/jobs"
	"bridgespan/service/naming"
	"bridgespan/service/vault"
	"bridgespan/service/work"
	"bridgespan/standin/fileserver"
	"bridgespan/standin/standintest"
)

// stage is a host that may show a namespace, and instances of the service that keep what it shows.
type stage struct {
	t         *testing.T
	ctx       context.Context // of an administrator
	db        *records.DB
	plain     *sql.DB
	vault     *vault.Vault
	host      *fileserver.Server
	mover     model.Server // beside it
	secret    string       // of the mover
	endMover  func()
	instances []*instance
	asked     model.NewFront
}

// instance is an instance of the service.
type instance struct {
	names  *naming.Service
	sites  *estate.Service
	runs   *jobs.Service
	fronts *fronts.Service
	end    func() // ends what it does in the background
}

// newStage starts a namespace "garden" with two folders, a signpost in each, and a host "bracken".
func newStage(t *testing.T) *stage {
	t.Helper()
	s := &stage{t: t, host: standintest.FrontServer(t, "bracken", "store"), asked: model.NewFront{Server: "bracken", Share: "garden", Namespace: "garden"}}
	var server interface{ DSN(string) string }
	s.db, server = standintest.Records(t)
	s.ctx = access.WithActor(t.Context(), model.User{Name: "tester", Role: model.Administrator})
	var err error
	if s.plain, err = sql.Open("mysql", server.DSN("bridgespan")); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.plain.Close() })
	if s.vault, err = vault.Open(filepath.Join(t.TempDir(), "key")); err != nil {
		t.Fatal(err)
	}
	first := s.start()
	if err := first.sites.AddSite(s.ctx, model.Site{Name: "Lowland"}); err != nil {
		t.Fatal(err)
	}
	s.addServers(t, first.sites)
	if err := first.names.AddNamespace(s.ctx, model.Namespace{Name: "garden"}); err != nil {
		t.Fatal(err)
	}
	for _, folder := range []string{"beds", "paths"} {
		if _, err := first.names.AddEntry(s.ctx, "garden", namespace.Entry{Path: folder, Kind: namespace.Folder}, nil); err != nil {
			t.Fatal(err)
		}
		to := naming.NewLocation{Target: namespace.Target{Server: "files", Share: "store"}}
		if _, err := first.names.AddEntry(s.ctx, "garden", namespace.Entry{Path: folder + "/plants", Kind: namespace.Signpost}, []naming.NewLocation{to}); err != nil {
			t.Fatal(err)
		}
	}
	return s
}

// addServers starts a mover beside the file service, and adds both.
func (s *stage) addServers(t *testing.T, sites *estate.Service) {
	t.Helper()
	state := t.TempDir()
	m, err := host.Open(host.Config{Listen: s.host.Address + ":0", State: state, Fronts: s.host.FrontsFolder(), FileService: s.host.Configuration()})
	if err != nil {
		t.Fatal(err)
	}
	s.endMover = inBackground(t, func(ctx context.Context) { _ = m.Serve(ctx) })
	fingerprint, secret, err := host.Identity(state)
	if err != nil {
		t.Fatal(err)
	}
	address, text, err := net.SplitHostPort(m.Address())
	if err != nil {
		t.Fatal(err)
	}
	port, err := strconv.Atoi(text)
	if err != nil {
		t.Fatal(err)
	}
	s.mover, s.secret = model.Server{Name: "bracken", Site: "Lowland", Address: address, Port: port, Certificate: fingerprint}, secret
	if err := sites.AddServer(s.ctx, s.mover, secret, false); err != nil {
		t.Fatal(err)
	}
	if err := sites.AddServer(s.ctx, model.Server{Name: "files", Site: "Lowland", Address: address, Port: 445, Account: "warden"}, standintest.Password("warden"), false); err != nil {
		t.Fatal(err)
	}
}

// leaseLength lets instances take over within seconds.
const leaseLength = 5 * time.Second

// start starts an instance, which ends with the whole test.
func (s *stage) start() *instance {
	told := func() { // all of them, as by the news
		for _, i := range s.instances {
			i.names.Forget()
			i.fronts.Kick()
		}
	}
	i := new(instance)
	leases := &work.Leases{DB: s.db, Holder: fmt.Sprint("instance", len(s.instances)), Length: leaseLength}
	i.sites = estate.New(s.db, s.vault, told)
	i.names = naming.New(s.db, i.sites, told)
	i.runs = jobs.New(s.db, leases, func() {})
	i.fronts = fronts.New(s.db, s.vault, i.sites, i.names, i.runs, told)
	inBackground(s.t, i.runs.Run)
	i.end = inBackground(s.t, func(ctx context.Context) { i.fronts.Run(ctx, leases) })
	s.instances = append(s.instances, i)
	return i
}

// inBackground does something until the test, or the returned function, ends it.
func inBackground(t *testing.T, do func(context.Context)) (end func()) {
	ctx, stop := context.WithCancel(context.WithoutCancel(t.Context()))
	ended := make(chan struct{})
	go func() { defer close(ended); do(ctx) }()
	end = func() { stop(); <-ended }
	t.Cleanup(end)
	return end
}

// add makes the front, and returns it as it then is.
func (s *stage) add(t *testing.T, by *instance) model.Front {
	t.Helper()
	plan, err := by.fronts.Add(s.ctx, s.asked)
	if err != nil || plan.Front.State != model.FrontCurrent {
		t.Fatalf("added %+v, %v", plan.Front, err)
	}
	return plan.Front
}

// remove removes the front as it is now.
func (s *stage) remove(by *instance, how model.RemoveFront) (model.FrontPlan, error) {
	f, err := by.fronts.Front(s.ctx, s.asked.Server, s.asked.Share)
	if err != nil {
		return model.FrontPlan{}, err
	}
	return by.fronts.Remove(s.ctx, f.Server, f.Share, f.Version, how)
}

// below is a place of the front's folder on the host.
func (s *stage) below(path string) string {
	return filepath.Join(s.host.FrontsFolder(), s.asked.Share, path)
}

// offered reports whether the file service has the share.
func (s *stage) offered(t *testing.T) bool {
	t.Helper()
	text, err := os.ReadFile(s.host.Configuration())
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(text)) {
		if file, found := strings.CutPrefix(strings.TrimSpace(line), "include = "); found {
			more, err := os.ReadFile(file)
			if err != nil && !os.IsNotExist(err) {
				t.Fatal(err)
			}
			text = append(text, more...)
		}
	}
	return strings.Contains(string(text), "["+s.asked.Share+"]")
}

// nothingLeft checks that nothing tells of a front any more.
func (s *stage) nothingLeft(t *testing.T, of *instance) {
	t.Helper()
	if _, err := of.fronts.Front(s.ctx, s.asked.Server, s.asked.Share); fault.KindOf(err) != fault.NotFound {
		t.Errorf("it is still known: %v", err)
	}
	if _, err := os.Stat(s.below("")); !os.IsNotExist(err) {
		t.Errorf("its folder: %v", err)
	}
	if s.offered(t) {
		t.Error("it is still offered")
	}
}

// soon waits until something is so.
func soon(t *testing.T, what string, so func() bool) {
	t.Helper()
	deadline := time.After(20 * time.Second)
	for tick := time.NewTicker(10 * time.Millisecond); !so(); {
		select {
		case <-tick.C:
		case <-deadline:
			t.Fatal("not in time: " + what)
		}
	}
}

func TestKept(t *testing.T) {
	s := newStage(t)
	t.Run("add and remove", func(t *testing.T) { testAddAndRemove(t, s) })
	t.Run("check of what changed", func(t *testing.T) { testCheckChanged(t, s) })
	t.Run("same host twice", func(t *testing.T) { testSameHostTwice(t, s) })
	t.Run("removal taken back", func(t *testing.T) { testRemovalTakenBack(t, s) })
	t.Run("removed by another instance", func(t *testing.T) { testRemovedByAnother(t, s) })
	t.Run("taken over while writing", func(t *testing.T) { testTakenOver(t, s) })
	t.Run("forgotten", func(t *testing.T) { testForgotten(t, s) })
}

func testAddAndRemove(t *testing.T, s *stage) {
	only := s.instances[0]
	f := s.add(t, only)
	if f.Folders != 2 || f.Links != 2 || f.Version != 1 || !s.offered(t) {
		t.Errorf("added %+v", f)
	}
	to, err := os.Readlink(s.below("beds/plants"))
	if want := `msdfs:` + s.host.Address + `\store`; err != nil || to != want {
		t.Errorf("a link to %s, %v; want %s", to, err, want)
	}
	if _, err := only.fronts.Add(s.ctx, s.asked); fault.KindOf(err) != fault.Taken {
		t.Errorf("a second one: %v", err)
	}
	if _, err := only.fronts.Remove(s.ctx, f.Server, f.Share, f.Version+1, model.RemoveFront{}); fault.KindOf(err) != fault.Stale {
		t.Errorf("removed with another version: %v", err)
	}
	if p, err := s.remove(only, model.RemoveFront{Rehearse: true}); err != nil || !p.Rehearsed || p.Run != 0 {
		t.Errorf("rehearsed %+v, %v", p, err)
	}
	if !s.offered(t) {
		t.Error("a rehearsal removed it")
	}
	if _, err := s.remove(only, model.RemoveFront{}); err != nil {
		t.Error(err)
	}
	s.nothingLeft(t, only)
	var added, removed int
	if err := s.plain.QueryRowContext(s.ctx, `SELECT SUM(action = 'front.add'), SUM(action = 'front.remove') FROM changes WHERE subject = 'bracken/garden'`).Scan(&added, &removed); err != nil || added != 1 || removed != 1 {
		t.Errorf("the audit tells of %d and %d changes, %v", added, removed, err)
	}
}

// After a change is looked at what has changed, and at all when that is not well, or was not before.
func testCheckChanged(t *testing.T, s *stage) {
	only := s.instances[0]
	f := s.add(t, only)
	ada := model.FrontCheckAs{Account: "ada", Password: standintest.Password("ada")}
	if _, err := only.fronts.Edit(s.ctx, f.Server, f.Share, f.Version, model.EditFront{CheckAs: &ada}); err != nil {
		t.Fatal(err)
	}
	first, err := only.fronts.Check(s.ctx, f.Server, f.Share, model.AskFrontCheck{})
	if err != nil || first.Outcome != finding.Pass {
		t.Fatalf("found %+v, %v", first, err)
	}
	last := first
	look := func(what string, anew bool, outcome finding.Severity, paths ...string) {
		t.Helper()
		changed := map[string]bool{}
		for _, path := range paths {
			changed[path] = true
		}
		if err := fronts.CheckChanged(only.fronts, s.ctx, f.Server, f.Share, changed); err != nil {
			t.Error(err)
		}
		f, err := only.fronts.Front(s.ctx, f.Server, f.Share)
		if err != nil || f.Check.At.Equal(last.At) == anew || f.Check.Outcome != outcome {
			t.Fatalf("%s: found %+v, %v", what, f.Check, err)
		}
		last = *f.Check
	}
	look("one that is well", false, finding.Pass, "beds/plants")
	store := s.host.SharePath("store")
	if err := os.Rename(store, store+".away"); err != nil {
		t.Fatal(err)
	}
	look("a folder", false, finding.Pass, "beds")
	look("one that leads to nothing", true, finding.Fail, "beds/plants")
	if err := os.Rename(store+".away", store); err != nil {
		t.Fatal(err)
	}
	look("another one", true, finding.Pass, "paths/plants")
	if _, err := s.remove(only, model.RemoveFront{}); err != nil {
		t.Error(err)
	}
}

// The host under a second name in Bridge Span is not another host.
func testSameHostTwice(t *testing.T, s *stage) {
	only := s.instances[0]
	s.add(t, only)
	again := s.mover
	again.Name = "fern"
	if err := only.sites.AddServer(s.ctx, again, s.secret, false); err != nil {
		t.Fatal(err)
	}
	second := s.asked
	second.Server, second.Rehearse = "fern", true
	if _, err := only.fronts.Add(s.ctx, second); fault.KindOf(err) != fault.Taken {
		t.Errorf("the same mover as another host: %v", err)
	}
	if _, err := s.remove(only, model.RemoveFront{}); err != nil {
		t.Error(err)
	}
}

// When what was made cannot be cleared, the front is offered and kept as before.
func testRemovalTakenBack(t *testing.T, s *stage) {
	only := s.instances[0]
	s.add(t, only)
	if err := syscall.Mount("tmpfs", s.below("paths"), "tmpfs", 0, "size=64k"); err != nil {
		t.Skip("nothing may be mounted here: ", err)
	}
	mounted := true
	unmount := func() {
		if mounted {
			mounted = syscall.Unmount(s.below("paths"), 0) != nil
		}
	}
	t.Cleanup(unmount)
	if _, err := s.remove(only, model.RemoveFront{}); err == nil {
		t.Fatal("a folder that cannot be removed was removed")
	}
	if !s.offered(t) {
		t.Error("it is not offered again")
	}
	soon(t, "the front kept again", func() bool {
		_, err := os.Readlink(s.below("beds/plants"))
		f, known := only.fronts.Front(s.ctx, "bracken", "garden")
		return err == nil && known == nil && f.State != model.FrontLeaving
	})
	unmount()
	if _, err := s.remove(only, model.RemoveFront{}); err != nil {
		t.Error(err)
	}
	s.nothingLeft(t, only)
}

// An instance that does not keep a front waits, before it clears, until the one that does has ended.
func testRemovedByAnother(t *testing.T, s *stage) {
	keeps := s.instances[0]
	s.add(t, keeps)
	if _, err := s.remove(s.start(), model.RemoveFront{}); err != nil {
		t.Error(err)
	}
	s.nothingLeft(t, keeps)
}

// entries adds so many signposts to the namespace.
func (s *stage) entries(t *testing.T, amount int) {
	t.Helper()
	for _, statement := range []string{
		`INSERT INTO entries (id, namespace_id, path, path_key, kind) SELECT 1000 + seq, (SELECT id FROM namespaces), CONCAT('many', seq), CONCAT('many', seq), 'signpost' FROM seq_1_to_%d`,
		`INSERT INTO locations (entry_id, server_id, share, sub, state, health) SELECT 1000 + seq, (SELECT id FROM servers WHERE name = 'files'), 'store', '', 'open', 'well' FROM seq_1_to_%d`,
	} {
		if _, err := s.plain.ExecContext(s.ctx, fmt.Sprintf(statement, amount)); err != nil {
			t.Fatal(err)
		}
	}
	for _, i := range s.instances {
		i.names.Forget()
		i.fronts.Kick()
	}
}

// noEntries removes them.
func (s *stage) noEntries(t *testing.T) {
	t.Helper()
	if _, err := s.plain.ExecContext(s.ctx, `DELETE FROM entries WHERE path LIKE 'many%'`); err != nil {
		t.Fatal(err)
	}
	for _, i := range s.instances {
		i.names.Forget()
	}
}

// written is how many of those links are there.
func (s *stage) written(t *testing.T) (n int) {
	t.Helper()
	list, err := os.ReadDir(s.below(""))
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range list {
		if strings.HasPrefix(e.Name(), "many") && e.Type()&os.ModeSymlink != 0 {
			n++
		}
	}
	return n
}

// Whoever takes over from an instance that ends, or loses its lease, in the middle of a writing writes
// the rest.
func testTakenOver(t *testing.T, s *stage) {
	const amount = 20_000
	s.add(t, s.instances[0])
	s.entries(t, amount)
	soon(t, "some of it", func() bool { return s.written(t) > 0 })
	// The lease is given away in the records: whoever has it meets that with its next writing there.
	if _, err := s.plain.ExecContext(s.ctx, `UPDATE leases SET expires = UTC_TIMESTAMP(6) - INTERVAL 1 SECOND WHERE name = 'keep fronts'`); err != nil {
		t.Fatal(err)
	}
	first := s.written(t)
	last := s.start()
	soon(t, "more of it", func() bool { return s.written(t) > first })
	for _, i := range s.instances[:len(s.instances)-1] {
		i.end()
	}
	if n := s.written(t); n == amount {
		t.Fatal("all was written before the others ended: make it more")
	}
	soon(t, "all of it", func() bool {
		f, err := last.fronts.Front(s.ctx, "bracken", "garden")
		return err == nil && f.State == model.FrontCurrent && f.Links == amount+2 && s.written(t) == amount
	})
	if _, err := s.remove(s.instances[0], model.RemoveFront{}); err != nil {
		t.Error(err)
	}
	s.nothingLeft(t, last)
	s.noEntries(t)
}

// A front whose host is gone can be forgotten, and no other. What it made stays there.
func testForgotten(t *testing.T, s *stage) {
	last := s.instances[len(s.instances)-1]
	s.add(t, last)
	if _, err := s.remove(last, model.RemoveFront{Forget: true, Rehearse: true}); fault.KindOf(err) != fault.Invalid {
		t.Errorf("one whose host answers: %v", err)
	}
	s.endMover()
	if _, err := s.remove(last, model.RemoveFront{}); err == nil {
		t.Error("a host that is gone removes what it made")
	}
	soon(t, "being away", func() bool {
		f, err := last.fronts.Front(s.ctx, "bracken", "garden")
		return err == nil && f.State == model.FrontAway
	})
	p, err := s.remove(last, model.RemoveFront{Forget: true, Rehearse: true})
	if err != nil || len(p.Steps) != 2 || len(p.Checks) != 1 || p.Checks[0].Code != "stays" {
		t.Errorf("rehearsed %+v, %v", p, err)
	}
	if _, err := s.remove(last, model.RemoveFront{Forget: true}); err != nil {
		t.Error(err)
	}
	if _, err := last.fronts.Front(s.ctx, "bracken", "garden"); fault.KindOf(err) != fault.NotFound {
		t.Errorf("it is still known: %v", err)
	}
	if _, err := os.Readlink(s.below("beds/plants")); err != nil {
		t.Errorf("what it made: %v", err)
	}
	v, err := s.db.Server(s.ctx, "bracken")
	if err == nil {
		err = last.sites.RemoveServer(s.ctx, v.Name, v.Version, false)
	}
	if err != nil {
		t.Errorf("removing its host: %v", err)
	}
}
