package edge

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"bridgespan/guard"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/folder"
)

// keeping is a keeper of a folder "garden" on a small volume, whose contents a bucket has.
type keeping struct {
	*Keeper
	t        *testing.T
	dir      string    // the folder
	files    tree.Tree // of the edge
	settings Settings
	objects  tree.Tree
}

func keep(t *testing.T) *keeping {
	t.Helper()
	needsRoot(t)
	at := t.TempDir()
	standintest.Volume(t, at, 64<<20)
	k := &keeping{t: t, dir: filepath.Join(at, "garden")}
	if err := os.MkdirAll(filepath.Join(k.dir, "beds"), 0o755); err != nil {
		t.Fatal(err)
	}
	if _, err := Supported(k.dir, AnyTrigger); err != nil {
		t.Skip(err)
	}
	target := standintest.Cloud(t).Bucket(t)
	k.settings.Bucket = Bucket{Endpoint: target.Endpoint, Plain: true, Region: target.Region, Bucket: target.Bucket, PathStyle: true, Key: target.Key, Secret: target.Secret}
	k.objects = standintest.OpenBucket(t, target)
	k.Keeper = &Keeper{State: filepath.Join(t.TempDir(), "edges.json"), Folders: map[string]string{"garden": k.dir}}
	k.openFolder()
	return k
}

func (k *keeping) openFolder() {
	f, err := folder.Open(k.dir)
	if err != nil {
		k.t.Fatal(err)
	}
	k.t.Cleanup(func() { f.Close() })
	f.FetchWith(k.Fetcher("garden"))
	if k.files, err = f.Sub(k.t.Context(), "beds"); err != nil {
		k.t.Fatal(err)
	}
	beds := k.files
	k.t.Cleanup(func() { beds.Close() })
	keeper := k.Keeper
	k.t.Cleanup(func() { keeper.Close() })
}

// stub lets the bucket have a file, and makes a stub of it.
func (k *keeping) stub(name string, content []byte) {
	k.t.Helper()
	e, err := k.files.Put(k.t.Context(), name, bytes.NewReader(content), tree.PutOptions{})
	if err != nil {
		k.t.Fatal(err)
	}
	o, err := k.objects.Put(k.t.Context(), name, bytes.NewReader(content), tree.PutOptions{Replace: true, Meta: tree.Meta{Modified: e.Modified}})
	if err == nil {
		_, err = k.files.(tree.Stubs).Offload(k.t.Context(), name, e, tree.Mark{Path: name, Version: o.Version, Modified: e.Modified})
	}
	if err != nil {
		k.t.Fatal(err)
	}
}

// read reads a file as any program does that knows nothing of stubs.
func (k *keeping) read(name string) ([]byte, error) {
	return exec.CommandContext(k.t.Context(), "cat", filepath.Join(k.dir, "beds", name)).Output()
}

func (k *keeping) readsTrue(what, name string, content []byte) {
	k.t.Helper()
	if got, err := k.read(name); err != nil || !bytes.Equal(got, content) {
		k.t.Errorf("%s: %d bytes, %v", what, len(got), err)
	}
}

// An edge is made, changed by several at a time, known after a restart, and ended. The secret is written nowhere.
func TestKeeper(t *testing.T) {
	k := keep(t)
	if s, err := k.Look("garden", "beds"); err != nil || s.Edge || s.Kernel != "" {
		t.Errorf("before: %+v, %v", s, err)
	}
	var group guard.Group
	for i := range 4 {
		group.Go(func() error {
			s := k.settings
			s.Refused, s.Wait = []string{"nightly-backup"}, i
			return k.Set(t.Context(), "garden", "beds", s)
		})
	}
	if err := group.Wait(); err != nil {
		t.Fatal(err)
	}
	if s, err := k.Look("garden", "beds"); err != nil || !s.Edge || !s.Ready {
		t.Errorf("set: %+v, %v", s, err)
	}
	content := noise(1, 2<<20)
	k.stub("f", content)
	k.readsTrue("a stub", "f", content)
	if s, err := k.Look("garden", "beds"); err != nil || s.Counts.Fetched != 1 || s.Counts.FetchedBytes != 2<<20 {
		t.Errorf("fetched: %+v, %v", s, err)
	}
	kept, err := os.ReadFile(k.State)
	if err != nil || bytes.Contains(kept, []byte(k.settings.Bucket.Secret)) || !bytes.Contains(kept, []byte("nightly-backup")) {
		t.Errorf("kept is %s, %v", kept, err)
	}
	k.stub("g", content)
	k.restart()
	if s, err := k.Look("garden", "beds"); err != nil || !s.Edge || s.Ready {
		t.Errorf("after a restart: %+v, %v", s, err)
	}
	waits := guard.Result(func() error { k.readsTrue("a stub whose bucket is told later", "g", content); return nil })
	if err := k.Set(t.Context(), "garden", "beds", k.settings); err != nil {
		t.Fatal(err)
	}
	if err := <-waits; err != nil {
		t.Error(err)
	}
	k.stub("h", content)
	if err := k.Remove("garden", "beds"); err != nil {
		t.Fatal(err)
	}
	if got, err := k.read("h"); err == nil || len(got) > 0 {
		t.Errorf("a stub of an edge that was ended: %d bytes, %v", len(got), err)
	}
	if err := tree.Fetch(t.Context(), k.files, "h"); !errors.Is(err, tree.ErrStub) {
		t.Errorf("fetched of an edge that was ended: %v", err)
	}
}

// restart ends the keeper and starts one on the same state.
func (k *keeping) restart() {
	k.t.Helper()
	if err := k.Close(); err != nil {
		k.t.Fatal(err)
	}
	k.Keeper = &Keeper{State: k.State, Folders: k.Folders, Trigger: k.Trigger}
	k.openFolder()
	if err := k.Open(k.t.Context()); err != nil {
		k.t.Fatal(err)
	}
}

// What cannot be an edge is refused, and nothing is kept of it.
func TestKeeperRefuses(t *testing.T) {
	k := keep(t)
	if err := os.Symlink(t.TempDir(), filepath.Join(k.dir, "out")); err != nil {
		t.Fatal(err)
	}
	wrongKey := k.settings
	wrongKey.Bucket.Secret = "not that"
	noBucket := k.settings
	noBucket.Bucket.Bucket = "no-such-bucket"
	for what, r := range map[string]struct {
		folder, sub string
		settings    Settings
		want        error
	}{
		"a folder that is not served": {"hedge", "", k.settings, fs.ErrNotExist},
		"nothing there":               {"garden", "nothing", k.settings, fs.ErrNotExist},
		"above":                       {"garden", "../garden", k.settings, fs.ErrInvalid},
		"a link that leads out":       {"garden", "out", k.settings, fs.ErrPermission},
		"a wrong key":                 {"garden", "beds", wrongKey, fs.ErrPermission},
		"no bucket":                   {"garden", "beds", noBucket, tree.ErrUnreachable},
	} {
		if err := k.Set(t.Context(), r.folder, r.sub, r.settings); !errors.Is(err, r.want) {
			t.Errorf("%s: %v, want %v", what, err, r.want)
		}
	}
	if _, err := os.Stat(k.State); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("something is kept: %v", err)
	}
	if err := os.WriteFile(k.State, []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := k.Open(t.Context()); err == nil || !strings.Contains(err.Error(), "edges.json") {
		t.Errorf("what is kept is damaged: %v", err)
	}
}

// overHTTP posts to a handler, as a mover's client does.
type overHTTP struct{ *httptest.Server }

func (o overHTTP) Post(ctx context.Context, at []string, body, answer any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, o.URL+"/v1/"+path.Join(at...), bytes.NewReader(text))
	if err != nil {
		return err
	}
	a, err := o.Client().Do(r)
	if err != nil {
		return err
	}
	defer a.Body.Close()
	if a.StatusCode != http.StatusOK {
		return &failed{a.StatusCode}
	}
	return json.NewDecoder(a.Body).Decode(answer)
}

type failed struct{ status int }

func (f *failed) Error() string { return http.StatusText(f.status) }

func TestWire(t *testing.T) {
	k := keep(t)
	server := httptest.NewServer(Handler(k.Keeper))
	defer server.Close()
	c := Client{overHTTP{server}, "garden", "beds"}
	if s, err := c.Set(t.Context(), k.settings); err != nil || !s.Ready {
		t.Errorf("set: %+v, %v", s, err)
	}
	if s, err := c.Look(t.Context()); err != nil || !s.Edge {
		t.Errorf("look: %+v, %v", s, err)
	}
	if err := c.Remove(t.Context()); err != nil {
		t.Error(err)
	}
	if s, err := c.Look(t.Context()); err != nil || s.Edge {
		t.Errorf("after its removal: %+v, %v", s, err)
	}
	for _, bad := range []struct{ call, body string }{{"set", "{}"}, {"burn", "{}"}, {"look", "["}, {"set", `{"settings":{"wait":"` + strings.Repeat("9", mostBody) + `"}}`}} {
		r, err := http.Post(server.URL+"/v1/edges/garden/"+bad.call, "application/json", strings.NewReader(bad.body))
		if err != nil {
			t.Fatal(err)
		}
		r.Body.Close()
		if r.StatusCode < 400 {
			t.Errorf("%s %.40s: %s", bad.call, bad.body, r.Status)
		}
	}
}

// asProcess tells the test's program to be a mover with one edge, or its guard.
const asProcess = "EDGE_TEST_PROCESS"

func TestMain(m *testing.M) {
	if os.Getenv(asProcess) == "" {
		os.Exit(m.Run())
	}
	if err := process(os.Args[1:]); err != nil {
		println(err.Error())
		os.Exit(1)
	}
}

func process(args []string) error {
	switch args[0] {
	case "guard":
		return Guard(context.Background(), args[1], args[2])
	case "offload":
		return offloadForEver(context.Background(), args[1])
	case "read":
		return readWhenTold(args[1], args[2])
	}
	var s Settings
	if err := json.Unmarshal([]byte(args[3]), &s); err != nil {
		return err
	}
	k := &Keeper{State: args[1], Folders: map[string]string{"garden": args[2]}, Trigger: Trigger(args[4]), Guard: []string{os.Args[0], "guard"}}
	if err := k.Set(context.Background(), "garden", "beds", s); err != nil {
		return err
	}
	defer k.Close()
	_, _ = os.Stdout.WriteString("ready\n")
	select {}
}

// While no mover runs, stubs cannot be read; whole files can. The guard ends when somebody takes over.
func TestGuard(t *testing.T) {
	for _, m := range []Trigger{OnRead, OnOpen} {
		t.Run("filled on "+string(m), func(t *testing.T) { testGuard(t, m) })
	}
}

func testGuard(t *testing.T, trigger Trigger) {
	k := keep(t)
	k.Trigger = trigger
	content := noise(1, 1<<20)
	if err := k.Set(t.Context(), "garden", "beds", k.settings); err != nil {
		t.Fatal(err)
	}
	k.stub("f", content)
	k.stub("g", content)
	if err := k.Close(); err != nil {
		t.Fatal(err)
	}
	text, err := json.Marshal(k.settings)
	if err != nil {
		t.Fatal(err)
	}
	mover := exec.Command(os.Args[0], "mover", k.State, k.dir, string(text), string(k.Trigger))
	mover.Env = append(os.Environ(), asProcess+"=1")
	mover.Stderr = os.Stderr
	t.Cleanup(func() { _ = EndGuards(context.Background(), filepath.Dir(k.State), "") })
	said, err := mover.StdoutPipe()
	if err == nil {
		err = mover.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	if n, err := said.Read(make([]byte, 10)); n == 0 {
		t.Fatalf("the mover does not start: %v", err)
	}
	guards := func() []string {
		list, _ := filepath.Glob(filepath.Join(filepath.Dir(k.State), "guard-*.sock"))
		return list
	}
	if len(guards()) != 1 {
		t.Errorf("there are the guards %q", guards())
	}
	if err := os.WriteFile(filepath.Join(k.dir, "beds", "whole"), content, 0o600); err != nil {
		t.Fatal(err)
	}
	k.readsTrue("while the mover runs", "f", content)
	_ = mover.Process.Kill()
	_ = mover.Wait()
	if got, err := os.ReadFile(filepath.Join(k.dir, "beds", "g")); !errors.Is(err, unix.EIO) {
		t.Errorf("a stub while no mover runs: %d bytes, %v", len(got), err)
	}
	k.readsTrue("a whole file while no mover runs", "whole", content)
	k.restart()
	if err := k.Set(t.Context(), "garden", "beds", k.settings); err != nil {
		t.Fatal(err)
	}
	k.readsTrue("with the next mover", "g", content)
	if list := guards(); len(list) > 0 {
		t.Errorf("guards are left: %q", list)
	}
}

// The proxy of the host counts more than that of the settings, and none more than both.
func TestKeeperProxy(t *testing.T) {
	const settings, host = "http://settings:3128", "http://127.0.0.1:1"
	for own, want := range map[string]string{"": settings, host: host, NoProxy: ""} {
		password := map[string]string{"": "theirs", host: "own"}[own]
		if b := (&Keeper{Proxy: own, ProxyPassword: "own"}).through(Bucket{Proxy: settings, ProxyPassword: "theirs"}); b.Proxy != want || b.ProxyPassword != password {
			t.Errorf("with %q the proxy is %q, want %q", own, b.Proxy, want)
		}
	}
	sky := standintest.Cloud(t)
	at := sky.Bucket(t)
	b := Bucket{Endpoint: at.Endpoint, Plain: true, Region: at.Region, Bucket: at.Bucket, PathStyle: true, Key: at.Key, Secret: at.Secret, Proxy: host}
	if _, err := new(Keeper).reach(t.Context(), b); !errors.Is(err, tree.ErrUnreachable) {
		t.Errorf("through a proxy that does not answer: %v", err)
	}
	if r, err := (&Keeper{Proxy: NoProxy}).reach(t.Context(), b); err != nil || r.Proxy != "" || r.Delay <= 0 {
		t.Errorf("without a proxy: %+v, %v", r, err)
	}
	b.Proxy = "ftp://settings"
	if _, err := new(Keeper).reach(t.Context(), b); !errors.Is(err, fs.ErrInvalid) {
		t.Errorf("through what is no proxy: %v", err)
	}
}
