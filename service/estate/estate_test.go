package estate_test

import (
	"context"
	"errors"
	"net"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/estate"
	"bridgespan/service/vault"
	"bridgespan/standin/fileserver"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
)

type fixture struct {
	*estate.Service
	db  *records.DB
	oak *fileserver.Server
	ctx context.Context

	vault *vault.Vault
}

func start(t *testing.T) fixture {
	t.Helper()
	db, _ := standintest.Records(t)
	v, err := vault.Open(filepath.Join(t.TempDir(), "key"))
	if err != nil {
		t.Fatal(err)
	}
	f := fixture{estate.New(db, v, func() {}), db, standintest.FileServer(t, "oak", "store", "quiet"), access.WithActor(t.Context(), model.User{Name: "tester"}), v}
	if err := f.AddSite(f.ctx, model.Site{Name: "Here"}); err != nil {
		t.Fatal(err)
	}
	if err := f.AddServer(f.ctx, f.server("oak"), standintest.Password("warden"), false); err != nil {
		t.Fatal(err)
	}
	return f
}

func (f fixture) server(name string) model.Server {
	return model.Server{Name: name, Site: "here", Address: f.oak.Address, Port: f.oak.Port, Account: "warden"}
}

func TestEstate(t *testing.T) {
	f := start(t)
	t.Run("Reach", func(t *testing.T) { testReach(t, f) })
	t.Run("Edit", func(t *testing.T) { testEdit(t, f) })
	t.Run("Quarantine", func(t *testing.T) { testQuarantineElsewhere(t, f) })
	t.Run("Reseal", func(t *testing.T) { testReseal(t, f) })
	t.Run("Targets", func(t *testing.T) { testTargets(t, f) })
	t.Run("Strangers", func(t *testing.T) { testStrangers(t, f) })
	t.Run("Rights", func(t *testing.T) { testRights(t, f) })
}

// Whether a server answers is news once, when it changes.
func testReach(t *testing.T, f fixture) {
	news := func() int {
		t.Helper()
		events, err := f.db.Events(f.ctx, 0)
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		for _, e := range events {
			if e.Topic == "server" && e.Subject == "oak" {
				n++
			}
		}
		return n
	}
	reachable := func() bool {
		t.Helper()
		v, err := f.Server(f.ctx, "oak")
		if err != nil || v.Reachable == nil || v.Since == nil {
			t.Fatalf("%+v, %v", v, err)
		}
		return *v.Reachable
	}
	before := news()
	f.Suspect(f.ctx, "oak")
	if !reachable() || news() != before {
		t.Error("a suspicion without ground is news")
	}
	f.oak.Halt()
	f.Suspect(f.ctx, "OAK")
	f.Suspect(f.ctx, "oak")
	if reachable() || news() != before+1 {
		t.Errorf("after the halt: answers %v, %d news", reachable(), news()-before)
	}
	if err := f.oak.Restart(); err != nil {
		t.Fatal(err)
	}
	f.Suspect(f.ctx, "oak")
	if !reachable() || news() != before+2 {
		t.Errorf("after the restart: answers %v, %d news", reachable(), news()-before)
	}
}

func testEdit(t *testing.T, f fixture) {
	v, err := f.Server(f.ctx, "oak")
	if err != nil {
		t.Fatal(err)
	}
	other := v
	other.Note, other.Name = "moved to the cellar", "Oak"
	if err := f.EditServer(f.ctx, "oak", other, "", false); err != nil {
		t.Fatalf("note and spelling: %v", err)
	}
	if err := f.EditServer(f.ctx, "oak", v, "", false); fault.KindOf(err) != fault.Stale {
		t.Errorf("an old version: %v", err)
	}
	if other, err = f.Server(f.ctx, "oak"); err != nil || other.Name != "Oak" || other.Note == "" {
		t.Fatalf("%+v, %v", other, err)
	}
	session, err := f.Reach(f.ctx, other.Name)
	if err != nil {
		t.Fatalf("the password was lost: %v", err)
	}
	session.Close()
	moved := other
	moved.Account = "ada"
	elsewhere, strange := other, other
	elsewhere.Port, strange.Domain = other.Port+1, "STRANGE"
	for what, v := range map[string]model.Server{"account": moved, "port": elsewhere, "domain": strange} {
		if err := f.EditServer(f.ctx, "oak", v, "", true); fault.KindOf(err) != fault.Invalid {
			t.Errorf("another %s under the old password: %v", what, err)
		}
	}
	if err := f.EditServer(f.ctx, "oak", moved, "wrong", false); fault.KindOf(err) != fault.Invalid {
		t.Errorf("a wrong password: %v", err)
	}
	other.Name = "oak"
	if err := f.EditServer(f.ctx, "oak", other, standintest.Password("warden"), false); err != nil {
		t.Errorf("the password again: %v", err)
	}
}

// What one instance has found of a server, and that it is trusted again, others learn.
func testQuarantineElsewhere(t *testing.T, f fixture) {
	other := estate.New(f.db, f.vault, func() {})
	learn := func() bool {
		t.Helper()
		if err := other.LearnQuarantines(f.ctx); err != nil {
			t.Fatal(err)
		}
		return other.Quarantined("oak")
	}
	if learn() {
		t.Error("a good server is left alone")
	}
	f.Distrust("oak", errors.New("nonsense"))
	if !f.Quarantined("oak") || !learn() {
		t.Error("another instance goes on with a server that is left alone")
	}
	if _, err := f.Check(f.ctx, "oak"); err != nil {
		t.Fatal(err)
	}
	if f.Quarantined("oak") || learn() {
		t.Error("another instance leaves alone a server that is trusted again")
	}
}

// A password that an earlier version has kept, bound to less, goes on being used, and to
// nothing but what it was given for.
func testReseal(t *testing.T, f fixture) {
	v, err := f.Server(f.ctx, "oak")
	if err != nil {
		t.Fatal(err)
	}
	sealed, err := f.db.ServerSecret(f.ctx, "oak")
	if err != nil {
		t.Fatal(err)
	}
	former := f.vault.Seal("server "+v.Address+" account warden", standintest.Password("warden"))
	if err := f.db.StoreServerSecret(f.ctx, "oak", sealed, former); err != nil {
		t.Fatal(err)
	}
	if _, err := f.Reach(f.ctx, v.Name); err == nil {
		t.Error("a password that is bound to no port is used")
	}
	for range 2 {
		if err := f.Reseal(f.ctx); err != nil {
			t.Fatal(err)
		}
		session, err := f.Reach(f.ctx, v.Name)
		if err != nil {
			t.Fatalf("the password was lost: %v", err)
		}
		session.Close()
	}
}

func testTargets(t *testing.T, f fixture) {
	for text, wrong := range map[string]string{
		"oak/STORE": "", "oak/store": "", "birch/store": "no server is called", "oak/IPC$": "has no share",
		"oak/gone": "choose one of quiet, store", "oak/store/gone": "there is no folder",
	} {
		target, err := namespace.ParseTarget("to", text)
		if err != nil {
			t.Fatal(err)
		}
		found, err := f.TryTarget(f.ctx, "to", target)
		if wrong == "" && (err != nil || found.Share != "store" || found.Server != "oak") {
			t.Errorf("%s: %v, %v", text, found, err)
		}
		if wrong != "" && (err == nil || !strings.HasPrefix(err.Error(), "to: ") || !strings.Contains(err.Error(), wrong)) {
			t.Errorf("%s: %v, want %q at the field", text, err, wrong)
		}
	}
}

// What listens there but is no file server is told apart from silence.
func testStrangers(t *testing.T, f fixture) {
	l, err := net.Listen("tcp", net.JoinHostPort(f.server("stranger").Address, "0"))
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			_, _ = conn.Write([]byte("220 mail.example.test ESMTP\r\n"))
			conn.Close()
		}
	}()
	stranger := f.server("stranger")
	stranger.Port = l.Addr().(*net.TCPAddr).Port
	if err := f.AddServer(f.ctx, stranger, "x", false); fault.KindOf(err) != fault.Invalid {
		t.Errorf("a mail server is added: %v", err)
	}
	if err := f.AddServer(f.ctx, stranger, "x", true); err != nil {
		t.Fatalf("unchecked: %v", err)
	}
	check, err := f.Check(f.ctx, "stranger")
	last := check.Lines[len(check.Lines)-1]
	if err != nil || check.Outcome != finding.Fail || last.Code != "protocol" || last.Remedy == "" || check.Lines[0].Severity != finding.Pass {
		t.Errorf("check %+v, %v", check, err)
	}
	if took := time.Duration(check.TookMs) * time.Millisecond; took > 5*time.Second {
		t.Errorf("the check took %s", took)
	}
	v, err := f.Server(f.ctx, "stranger")
	if err != nil || v.Check == nil || v.Check.Outcome != finding.Fail || v.Reachable == nil || *v.Reachable {
		t.Errorf("kept: %+v, %v", v, err)
	}
}

// An account that may not administer a share is found out.
func testRights(t *testing.T, f fixture) {
	oak, err := f.Server(f.ctx, "oak")
	if err != nil {
		t.Fatal(err)
	}
	session, err := f.Reach(f.ctx, oak.Name)
	if err != nil {
		t.Fatal(err)
	}
	defer session.Close()
	quiet, err := session.Tree(f.ctx, "quiet", "")
	if err != nil {
		t.Fatal(err)
	}
	closed, err := acl.Parse("O:BAG:BAD:PAI(A;OICI;FA;;;BA)")
	if err != nil {
		t.Fatal(err)
	}
	if err := quiet.Apply(f.ctx, ".", tree.Meta{Descriptor: closed}); err != nil {
		t.Fatal(err)
	}
	weak := f.server("weak")
	weak.Account = "ben"
	if err := f.AddServer(f.ctx, weak, standintest.Password("ben"), false); err != nil {
		t.Fatal(err)
	}
	check, err := f.Check(f.ctx, "weak")
	if err != nil || len(check.Lines) < 8 {
		t.Fatal(err)
	}
	for _, l := range check.Lines {
		if l.Code == "rights" && (l.Severity != finding.Fail || !strings.Contains(l.Remedy, "Administrators") || !strings.Contains(l.Found, "1 of 2 shares: quiet")) {
			t.Errorf("rights of an ordinary account: %+v", l)
		}
	}
	if check.Outcome != finding.Fail {
		t.Errorf("check %+v", check)
	}
}
