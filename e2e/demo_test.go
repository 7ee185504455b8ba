package e2e

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"bridgespan/client"
	"bridgespan/core/account"
	"bridgespan/demo"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/standin/fileserver"
	"bridgespan/standin/process"
)

// demoRun is the demo as a newcomer starts it, in a folder of the test.
type demoRun struct {
	t    *testing.T
	dir  string
	args []string
	cmd  *exec.Cmd
	out  *greetings
	gone chan struct{}
}

// greetings gathers what the demo prints and tells when it has greeted.
type greetings struct {
	mu      sync.Mutex
	text    []byte
	greeted chan struct{}
}

func (g *greetings) Write(p []byte) (int, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	before := bytes.Contains(g.text, []byte("Ctrl-C ends"))
	g.text = append(g.text, p...)
	if !before && bytes.Contains(g.text, []byte("Ctrl-C ends")) {
		close(g.greeted)
	}
	return len(p), nil
}

func (g *greetings) String() string {
	g.mu.Lock()
	defer g.mu.Unlock()
	return string(g.text)
}

func (d *demoRun) start() {
	d.t.Helper()
	d.out = &greetings{greeted: make(chan struct{})}
	d.cmd = exec.Command(harness.Program(d.t, "bspand"), d.args...)
	d.cmd.Stdout, d.cmd.Stderr = d.out, os.Stderr
	if err := d.cmd.Start(); err != nil {
		d.t.Fatal(err)
	}
	d.gone = make(chan struct{})
	go func(gone chan struct{}) { _ = d.cmd.Wait(); close(gone) }(d.gone)
	d.t.Cleanup(func() { // a test that fails half-way leaves nothing running either
		_ = d.cmd.Process.Signal(syscall.SIGINT)
		<-d.gone
	})
	select {
	case <-d.out.greeted:
	case <-d.gone:
		d.t.Fatalf("the demo ended: %s", d.out)
	case <-time.After(4 * time.Minute):
		d.t.Fatalf("the demo did not come up: %s", d.out)
	}
}

// end sends a signal and waits for the demo to be gone.
func (d *demoRun) end(signal syscall.Signal) {
	d.t.Helper()
	if err := d.cmd.Process.Signal(signal); err != nil {
		d.t.Fatal(err)
	}
	<-d.gone
}

// left lists the programs that still run with the demo's folder in their
// command line, or, where they wrote over that, with a file of it open.
func (d *demoRun) left() []string {
	folders := []string{d.dir}
	if target, err := os.Readlink(filepath.Join(d.dir, "servers")); err == nil {
		folders = append(folders, target)
	}
	files, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	var found []string
	for _, file := range files {
		args, err := os.ReadFile(file)
		if err != nil || len(args) == 0 || bytes.Contains(args, []byte("\x00demo\x00")) {
			continue
		}
		pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(file)))
		for _, folder := range folders {
			if bytes.Contains(args, []byte(folder+"/")) || bytes.HasPrefix(args, []byte("samba:")) && process.HasOpen(pid, folder) {
				found = append(found, strings.ReplaceAll(string(args), "\x00", " "))
				break
			}
		}
	}
	return found
}

func (d *demoRun) estate() demo.Estate {
	d.t.Helper()
	file := filepath.Join(d.dir, "estate.json")
	info, err := os.Stat(file)
	if err != nil || info.Mode().Perm() != 0o600 {
		d.t.Fatalf("estate.json: %v, %v", info, err)
	}
	text, err := os.ReadFile(file)
	if err != nil {
		d.t.Fatal(err)
	}
	var e demo.Estate
	if err := json.Unmarshal(text, &e); err != nil {
		d.t.Fatal(err)
	}
	return e
}

// The demo comes up from nothing, ends with all that it started, comes up again
// on its data, and clears up after itself when it was killed.
func TestDemo(t *testing.T) {
	t.Parallel()
	dir, err := os.MkdirTemp("", "bspan-demo-")
	if err != nil {
		t.Fatal(err)
	}
	port, err := process.FreePort("127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	smbPort, err := process.FreePort("127.0.0.11")
	if err != nil {
		t.Fatal(err)
	}
	d := &demoRun{t: t, dir: dir, args: []string{"demo", "--dir", dir, "--size", "small", "--port", itoa(port), "--smb-port", itoa(smbPort), "--domain-address", "127.60.0.20"}}
	t.Cleanup(func() {
		_ = demo.Reset(dir)
		_ = fileserver.Discard(filepath.Join(dir, "servers"))
		os.RemoveAll(dir)
	})
	d.start()
	first := d.estate()
	checkDemo(t, d, first)
	if out, err := exec.Command(harness.Program(t, "bspand"), d.args...).CombinedOutput(); err == nil || !strings.Contains(string(out), "running already") {
		t.Errorf("a second demo in the same folder: %v, %s", err, out)
	}
	d.end(syscall.SIGINT)
	if left := d.left(); len(left) > 0 {
		t.Errorf("still running after Ctrl-C: %q", left)
	}

	start := time.Now()
	d.start()
	t.Logf("the second start took %s", time.Since(start))
	if again := d.estate(); again.Password != first.Password || len(again.People) != len(first.People) {
		t.Error("the second start made new accounts")
	}
	d.end(syscall.SIGKILL) // no chance to clear up
	if left := d.left(); len(left) == 0 {
		t.Error("nothing was left running: the next check shows nothing")
	}
	d.start()
	checkDemo(t, d, d.estate())
	d.end(syscall.SIGHUP) // the terminal is closed
	if left := d.left(); len(left) > 0 {
		t.Errorf("still running after the terminal was closed: %q", left)
	}
	if out, err := exec.Command(harness.Program(t, "bspand"), "demo", "reset", "--dir", dir).CombinedOutput(); err != nil {
		t.Errorf("reset: %v, %s", err, out)
	}
	if _, err := os.Stat(filepath.Join(dir, "estate.json")); err == nil {
		t.Error("reset left the estate")
	}
}

// checkDemo looks at what the demo promises.
func checkDemo(t *testing.T, d *demoRun, e demo.Estate) {
	t.Helper()
	for _, says := range []string{e.Console, e.Password, "bin/bspan where", "curl -u"} {
		if !strings.Contains(d.out.String(), says) {
			t.Errorf("the greeting lacks %q: %s", says, d.out)
		}
	}
	api := &client.Client{Base: e.Console}
	if _, err := api.Login(t.Context(), e.User, e.Password, "test"); err != nil {
		t.Fatal(err)
	}
	servers, err := api.Servers(t.Context())
	want := 6
	if e.Edge != nil {
		want++
		defer checkEdge(t, api, e.Edge)
	}
	if err != nil || len(servers) != want {
		t.Fatalf("%d servers, %v", len(servers), err)
	}
	// What the station's computer writes is in Larkfield soon.
	weather, err := api.ReplicaSet(t.Context(), "weather")
	for deadline := time.Now().Add(time.Minute); err == nil && weather.State != model.SetSteady && time.Now().Before(deadline); time.Sleep(200 * time.Millisecond) {
		weather, err = api.ReplicaSet(t.Context(), "weather")
	}
	if err != nil || weather.State != model.SetSteady || weather.Lanes[0].Carried.Files < 20 {
		t.Errorf("the weather is %+v, %v", weather, err)
	}
	// What a partner put straight into the bucket of the ledgers is in Larkfield soon.
	fern := e.Servers[slices.IndexFunc(e.Servers, func(s demo.EstateServer) bool { return s.Name == "fern" })]
	delivered := func() bool {
		matches, err := filepath.Glob(filepath.Join(fern.Folder, "*", "seedbank", "From partners", "*.csv"))
		return err == nil && len(matches) == 1
	}
	for deadline := time.Now().Add(time.Minute); !delivered() && time.Now().Before(deadline); time.Sleep(200 * time.Millisecond) {
	}
	if ledgers, err := api.ReplicaSet(t.Context(), "ledgers"); err != nil || !delivered() {
		t.Errorf("what was put into the bucket is not in Larkfield: %+v, %v", ledgers, err)
	}
	// A service that was left running has seen the leg to heather fall.
	directions, err := api.Where(t.Context(), "/trust/collections/herbarium", "Highmoor", "")
	for deadline := time.Now().Add(time.Minute); err == nil && directions.Directions[0].Server != "heather" && time.Now().Before(deadline); time.Sleep(200 * time.Millisecond) {
		directions, err = api.Where(t.Context(), "/trust/collections/herbarium", "Highmoor", "")
	}
	if err != nil || directions.Directions[0].Server != "heather" {
		t.Errorf("directions %+v, %v", directions, err)
	}
	var reader davClient
	for _, p := range e.People {
		if p.Name == "tansy.reed" {
			reader = davClient{t, e.Gateway, p.Name, p.Password}
		}
	}
	reader.want(200, "GET", "/trust/collections/herbarium/Awkward%20names/two%20%20spaces.txt", nil)
	reader.want(403, "GET", "/trust/council/Minutes/2025/Q1%20minutes.txt", nil)
	reader.want(403, "GET", "/trust/collections/herbarium/Loans/Private%20collections/Agreement%20with%20the%20Abbot's%20Fen%20estate.txt", nil)
}

// checkEdge waits until the edge on the island has all names, and as much as has room.
func checkEdge(t *testing.T, api *client.Client, e *demo.EstateEdge) {
	t.Helper()
	filled := func() bool {
		set, err := api.ReplicaSet(t.Context(), e.Set)
		if err != nil {
			return false
		}
		f := set.Replicas[2].EdgeFigures
		return set.State == model.SetSteady && f != nil && f.Whole > 0 && f.Free >= f.Line
	}
	for deadline := time.Now().Add(time.Minute); !filled(); time.Sleep(200 * time.Millisecond) {
		if time.Now().After(deadline) {
			set, err := api.ReplicaSet(t.Context(), e.Set)
			t.Fatalf("the edge on the island is %+v, %+v, %v", set, set.Replicas[2].EdgeFigures, err)
		}
	}
	f, err := api.Arrival(t.Context(), e.Set, model.AskArrival{MadeAt: "fern"})
	if err != nil || len(f.Places) != 3 || f.Places[0].Name == nil || f.Places[2].Name == nil {
		t.Errorf("when a change at fern arrives: %+v, %v", f, err)
	}
	if u, err := api.CloudUsage(t.Context(), e.Set); err != nil || u.Currency == "" || u.Files == 0 || u.Stored <= 0 {
		t.Errorf("what it costs: %+v, %v", u, err)
	}
	var uses []model.AccountUses
	await(t, "the accounts in use", func() bool {
		uses, err = api.LatestAccountUses(t.Context(), e.Set)
		return err != nil || len(uses) == 1 && uses[0].Run.State.Ended()
	})
	if err != nil || len(uses[0].Accounts) == 0 || uses[0].Accounts[0].Reach != account.ReachLocal {
		t.Errorf("the account that is local to fern: %+v, %v", uses, err)
	}
}
