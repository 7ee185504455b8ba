// Package harness brings up the whole of Bridge Span for tests: a private
// MariaDB, real file servers and the service as its own program, and takes all
// of it down with the test.
package harness

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"bridgespan/client"
	"bridgespan/core/acl"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/standin/database"
	"bridgespan/standin/fileserver"
	"bridgespan/standin/process"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// The administrator of the service in tests.
const (
	Admin    = "keeper"
	Password = "seven quiet herons"
)

// binaries builds both programs once for all tests of a package.
var binaries = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "bspan-bin-")
	if err != nil {
		return "", err
	}
	out, err := exec.Command("go", "build", "-o", dir+"/", "bridgespan/cmd/...").CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("%w: %s", err, out)
	}
	return dir, nil
})

// Program is the path of a built program.
func Program(t testing.TB, name string) string {
	t.Helper()
	dir, err := binaries()
	if err != nil {
		t.Fatal(err)
	}
	return filepath.Join(dir, name)
}

// Clean removes the built programs; TestMain calls it last.
func Clean() {
	if dir, err := binaries(); err == nil {
		os.RemoveAll(dir)
	}
}

// Service is a running bspand.
type Service struct {
	Base    string
	Gateway string
	Dir     string
	process *process.Process
}

// StartService starts bspand on a database. site is where its gateway stands.
func StartService(t testing.TB, db *database.Server, site string) *Service {
	t.Helper()
	return start(t, t.TempDir(), db, site)
}

// Another starts one more bspand on the same records, with the same key.
func (e *Estate) Another(t testing.TB, site string) *Service {
	t.Helper()
	dir := t.TempDir()
	key, err := os.ReadFile(filepath.Join(e.Dir, "key"))
	must(t, err)
	must(t, os.WriteFile(filepath.Join(dir, "key"), key, 0o600))
	s := start(t, dir, e.Database, site)
	s.AwaitReady(t)
	return s
}

func start(t testing.TB, dir string, db *database.Server, site string) *Service {
	t.Helper()
	s := &Service{Dir: dir}
	ports := [2]int{}
	for i := range ports {
		port, err := process.FreePort("127.0.0.1")
		if err != nil {
			t.Fatal(err)
		}
		ports[i] = port
	}
	s.Base = fmt.Sprintf("http://127.0.0.1:%d", ports[0])
	s.Gateway = fmt.Sprintf("http://127.0.0.1:%d", ports[1])
	cmd := exec.Command(Program(t, "bspand"), "serve", "--listen", strings.TrimPrefix(s.Base, "http://"), "--gateway", strings.TrimPrefix(s.Gateway, "http://"),
		"--gateway-site", site, "--key-file", filepath.Join(s.Dir, "key"), "--setup-token-file", s.TokenFile())
	cmd.Env = append(os.Environ(), "BSPAND_DATABASE="+db.DSN("bridgespan"))
	log := filepath.Join(s.Dir, "log")
	p, err := process.Start("bspand", cmd, log)
	if err != nil {
		t.Fatal(err)
	}
	s.process = p
	t.Cleanup(func() {
		_ = s.Thaw()
		p.Stop(15 * time.Second)
		text, _ := os.ReadFile(log)
		if bytes.Contains(text, []byte("DATA RACE")) || bytes.Contains(text, []byte("panic: ")) || bytes.Contains(text, []byte("work panicked")) {
			t.Error("the service panicked, or raced with itself")
		}
		if t.Failed() {
			t.Logf("log of the service:\n%s", text)
		}
	})
	return s
}

// PID is the number of the process.
func (s *Service) PID() int { return s.process.PID() }

// Freeze makes the process stand still, as a machine that has no time for it does; Thaw
// lets it go on.
func (s *Service) Freeze() error { return s.process.Signal(syscall.SIGSTOP) }
func (s *Service) Thaw() error   { return s.process.Signal(syscall.SIGCONT) }

// Kill ends the process as a crash does.
func (s *Service) Kill() { s.process.Kill() }

// TokenFile is where the service writes its set-up token.
func (s *Service) TokenFile() string { return filepath.Join(s.Dir, "setup-token") }

// AwaitReady waits until the service serves.
func (s *Service) AwaitReady(t testing.TB) {
	t.Helper()
	api := &client.Client{Base: s.Base}
	if err := s.process.Await(func() error { return api.Ready(context.Background()) }, 60*time.Second); err != nil {
		t.Fatal(err)
	}
}

// SetUp makes the first administrator and returns a client that is signed in.
func (s *Service) SetUp(t testing.TB) *client.Client {
	t.Helper()
	s.AwaitReady(t)
	token, err := os.ReadFile(s.TokenFile())
	if err != nil {
		t.Fatal(err)
	}
	api := &client.Client{Base: s.Base}
	if err := api.Setup(t.Context(), model.Setup{Token: string(token), Name: Admin, Password: Password}); err != nil {
		t.Fatal(err)
	}
	return s.SignIn(t, Admin, Password)
}

// SignIn returns a client that is signed in.
func (s *Service) SignIn(t testing.TB, name, password string) *client.Client {
	t.Helper()
	api := &client.Client{Base: s.Base}
	if _, err := api.Login(t.Context(), name, password, "test"); err != nil {
		t.Fatal(err)
	}
	return api
}

// Estate is two sites, each with a file server, and a namespace over both.
type Estate struct {
	*Service
	Database *database.Server
	API      *client.Client
	Oak, Elm *fileserver.Server
}

// StartEstate starts everything: the servers oak at Lowland and elm at Upland,
// each with the shares store and quiet, and the namespace garden, where
// /garden/store leads to both and /garden/papers/quiet to oak.
func StartEstate(t testing.TB) *Estate { return StartEstateOf(t, standintest.FileServer) }

// StartEstateOf is StartEstate with file servers of some kind.
func StartEstateOf(t testing.TB, server func(t testing.TB, name string, shares ...string) *fileserver.Server) *Estate {
	t.Helper()
	e := &Estate{}
	var group sync.WaitGroup
	group.Go(func() { e.Oak = server(t, "oak", "store", "quiet") })
	group.Go(func() { e.Elm = server(t, "elm", "store", "quiet") })
	group.Go(func() { e.Database = standintest.Database(t) })
	group.Wait()
	if t.Failed() {
		t.FailNow()
	}
	e.Service = StartService(t, e.Database, "Lowland")
	e.API = e.Service.SetUp(t)
	must(t, add(e.API.AddSite(t.Context(), model.NewSite{Name: "Lowland"})))
	must(t, add(e.API.AddSite(t.Context(), model.NewSite{Name: "Upland"})))
	must(t, add(e.API.SetLeg(t.Context(), namespace.Leg{From: "Lowland", To: "Upland", Mbit: 100, RTT: 10, Cost: 40})))
	must(t, add(e.API.AddServer(t.Context(), NewServer("oak", "Lowland", e.Oak))))
	must(t, add(e.API.AddServer(t.Context(), NewServer("elm", "Upland", e.Elm))))
	Fill(t, e.Oak)
	Fill(t, e.Elm)
	must(t, add(e.API.AddNamespace(t.Context(), model.NewNamespace{Name: "garden"})))
	must(t, add(e.API.AddEntry(t.Context(), "garden", model.NewEntry{Path: "store", Kind: namespace.Signpost,
		Locations: []model.NewLocation{{Server: "oak", Share: "store"}, {Server: "elm", Share: "store", OpenNow: true}}})))
	must(t, add(e.API.AddEntry(t.Context(), "garden", model.NewEntry{Path: "papers/quiet", Kind: namespace.Signpost,
		Locations: []model.NewLocation{{Server: "oak", Share: "quiet"}}})))
	return e
}

// NewServer asks for a file server to be added under a name.
func NewServer(name, site string, s *fileserver.Server) model.NewServer {
	return model.NewServer{Name: name, Site: site, Address: s.Address, Port: s.Port, Account: "warden", Password: standintest.Password("warden")}
}

// SplitHostPort is an address that listens, in its parts.
func SplitHostPort(t testing.TB, address string) (host string, port int) {
	t.Helper()
	host, text, err := net.SplitHostPort(address)
	must(t, err)
	port, err = strconv.Atoi(text)
	must(t, err)
	return host, port
}

func add[T any](_ T, err error) error { return err }

func must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// Ledger is the file that Fill puts into both shares of every server.
var Ledger = []byte(strings.Repeat("Digitalis purpurea, bed 7, viable\n", 40_000))

// Tree opens a share of a server as its administrator.
func Tree(t testing.TB, server *fileserver.Server, share string) *smb.Tree {
	t.Helper()
	return TreeIn(t, server, share, "")
}

// TreeIn opens a folder of a share as the server's administrator.
func TreeIn(t testing.TB, server *fileserver.Server, share, folder string) *smb.Tree {
	t.Helper()
	session, err := smb.Dial(t.Context(), smb.Target{Address: server.HostPort(), Account: "warden", Password: standintest.Password("warden")})
	must(t, err)
	t.Cleanup(func() { session.Close() })
	opened, err := session.Tree(t.Context(), share, folder)
	must(t, err)
	return opened
}

// Fill opens the share store to everybody and quiet to keepers alone, and puts
// a ledger into both.
func Fill(t testing.TB, server *fileserver.Server) {
	t.Helper()
	session, err := smb.Dial(t.Context(), smb.Target{Address: server.HostPort(), Account: "warden", Password: standintest.Password("warden")})
	must(t, err)
	defer session.Close()
	rights := map[string]string{"store": "(A;OICI;0x1301bf;;;AU)", "quiet": "(A;OICI;0x1301bf;;;" + server.SID + "-2001)"}
	for share, granted := range rights {
		top, err := session.Tree(t.Context(), share, "")
		must(t, err)
		d, err := acl.Parse("O:BAG:BAD:PAI(A;OICI;FA;;;BA)" + granted)
		must(t, err)
		must(t, top.Apply(t.Context(), ".", tree.Meta{Descriptor: d}))
		must(t, tree.MkdirAll(t.Context(), top, "2026/spring"))
		modified := time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)
		_, err = top.Put(t.Context(), "2026/spring/ledger.csv", strings.NewReader(string(Ledger)), tree.PutOptions{Replace: true, Meta: tree.Meta{Modified: modified}})
		must(t, err)
		must(t, top.Close())
	}
}

// StartEmpty starts a service on an empty database, before its set-up.
func StartEmpty(t testing.TB) *Service {
	t.Helper()
	s := StartService(t, standintest.Database(t), "")
	s.AwaitReady(t)
	return s
}
