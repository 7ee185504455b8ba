package replication

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"net"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"bridgespan/core/replica"
	"bridgespan/standin/fileserver"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/folder"
	"bridgespan/tree/remote"
	"bridgespan/tree/smb"
)

// pair is a set of two replicas over real trees.
type pair struct {
	*Engine
	t    *testing.T
	a, b tree.Tree
}

func newPair(t *testing.T, a, b tree.Tree) *pair {
	var names atomic.Int64
	store := newMemoryStore()
	return &pair{t: t, a: a, b: b, Engine: &Engine{Set: "garden", Store: store, Now: time.Now,
		Replicas: []*Replica{{ID: 1, Name: "a", Tree: a, Seed: true}, {ID: 2, Name: "b", Tree: b}},
		Lanes:    []replica.Lane{{From: 1, To: 2}, {From: 2, To: 1}},
		Unique:   func() string { return fmt.Sprint("u", names.Add(1)) },
		Trouble:  func(tr Trouble) { t.Errorf("%s %s: %v", tr.Replica, tr.Path, tr.Err) }}}
}

// settleDown works until nothing is left to do, and returns what was carried.
func (p *pair) settleDown() (total Carried) {
	p.t.Helper()
	for range 20 {
		changed := int64(0)
		for _, r := range p.Replicas {
			s, err := p.Scan(p.t.Context(), r.ID)
			if err != nil {
				p.t.Fatal(err)
			}
			changed += s.Changed
		}
		done := 0
		for _, l := range p.Lanes {
			c, err := p.Carry(p.t.Context(), l, 1000)
			if err != nil {
				p.t.Fatal(err)
			}
			done += c.Done
			total.Files, total.Bytes, total.Conflicts, total.Spared = total.Files+c.Files, total.Bytes+c.Bytes, total.Conflicts+c.Conflicts, total.Spared+c.Spared
		}
		if changed == 0 && done == 0 {
			return total
		}
	}
	p.t.Fatal("there is no end to it")
	return total
}

// shown is what people see in a tree.
func shown(t *testing.T, tr tree.Tree) map[string]string {
	t.Helper()
	all := map[string]string{}
	for e, err := range tree.Walk(t.Context(), tr, ".", tree.WithDescriptors) {
		if err != nil {
			t.Fatal(err)
		}
		if own(e.Path) {
			continue
		}
		// The text form says what applies; how it was inherited depends on the place.
		what := e.Kind.String()
		if e.Kind == tree.File {
			text, err := tree.ReadFile(t.Context(), tr, e.Path)
			if err != nil {
				t.Fatal(err)
			}
			what = fmt.Sprintf("%s %v", text, e.Modified.UTC().Truncate(time.Second))
		}
		all[e.Path] = what
	}
	return all
}

func (p *pair) same() {
	p.t.Helper()
	a, b := shown(p.t, p.a), shown(p.t, p.b)
	if !maps.Equal(a, b) {
		p.t.Errorf("a and b differ:\n%s", difference(a, b))
	}
}

func put(t *testing.T, tr tree.Tree, name, text string) {
	t.Helper()
	if err := tree.MkdirAll(t.Context(), tr, filepath.Dir(name)); err != nil {
		t.Fatal(err)
	}
	if _, err := tr.Put(t.Context(), name, strings.NewReader(text), tree.PutOptions{Replace: true}); err != nil {
		t.Fatal(err)
	}
}

func inAttic(t *testing.T, tr tree.Tree) (texts []string) {
	t.Helper()
	for e, err := range tree.Walk(t.Context(), tr, atticFolder, tree.Plain) {
		if absent(err) { // nothing was ever put there
			return nil
		}
		if err != nil {
			t.Fatal(err)
		}
		if e.Kind == tree.File {
			text, err := tree.ReadFile(t.Context(), tr, e.Path)
			if err != nil {
				t.Fatal(err)
			}
			texts = append(texts, string(text))
		}
	}
	return texts
}

// testPair is what every pair of trees must do.
func testPair(t *testing.T, a, b tree.Tree) {
	p := newPair(t, a, b)
	ctx := t.Context()
	put(t, a, "ledgers/2026/may.csv", "may")
	put(t, a, "ledgers/old name.csv", "seed")
	put(t, a, "same.txt", "the same at both")
	put(t, b, "same.txt", "the same at both")
	put(t, b, "other.txt", "only b had this")
	put(t, b, "ledgers/2026/may.csv", "b's own may")
	e, err := a.Stat(ctx, "same.txt")
	if err == nil {
		err = b.Apply(ctx, "same.txt", tree.Meta{Modified: e.Modified})
	}
	if err != nil {
		t.Fatal(err)
	}
	first := p.settleDown()
	p.same()
	if first.Files != 2 {
		t.Errorf("the first fill brought %d files, want the two that b lacked", first.Files)
	}
	if kept := inAttic(t, b); len(kept) != 2 {
		t.Errorf("b's attic holds %q", kept)
	}

	// Edits both ways, a rename, a removal, a new folder.
	put(t, b, "ledgers/2026/may.csv", "may, corrected at b")
	put(t, a, "new/deep/file", "made at a")
	if err := a.Rename(ctx, "ledgers/old name.csv", "ledgers/new name.csv", false); err != nil {
		t.Fatal(err)
	}
	if err := b.Remove(ctx, "same.txt"); err != nil {
		t.Fatal(err)
	}
	second := p.settleDown()
	p.same()
	if second.Conflicts != 0 {
		t.Errorf("%d conflicts", second.Conflicts)
	}
	if a.Capabilities().IDs && second.Files != 2 {
		t.Errorf("%d files were brought, want two: a rename brings nothing", second.Files)
	}

	// A conflict: the later change wins at both, the other is kept.
	put(t, a, "ledgers/2026/may.csv", "earlier")
	put(t, b, "ledgers/2026/may.csv", "later")
	now := time.Now().Truncate(time.Second)
	if err := a.Apply(ctx, "ledgers/2026/may.csv", tree.Meta{Modified: now.Add(-time.Minute)}); err != nil {
		t.Fatal(err)
	}
	if err := b.Apply(ctx, "ledgers/2026/may.csv", tree.Meta{Modified: now}); err != nil {
		t.Fatal(err)
	}
	if third := p.settleDown(); third.Conflicts != 1 {
		t.Errorf("%d conflicts, want one", third.Conflicts)
	}
	p.same()
	if got := shown(t, a)["ledgers/2026/may.csv"]; !strings.HasPrefix(got, "later") {
		t.Errorf("at both: %s", got)
	}
	if kept := inAttic(t, a); !strings.Contains(strings.Join(kept, "|"), "earlier") {
		t.Errorf("a's attic holds %q", kept)
	}
}

// A folder that is not the replica's, as where a volume is not there, is not
// taken for one that people have emptied.
func TestNotTheReplica(t *testing.T) {
	a, b := openFolder(t), openFolder(t)
	p := newPair(t, a, b)
	put(t, a, "ledgers/may.csv", "may")
	p.settleDown()
	for name, other := range map[string]func(tree.Tree){
		"an empty folder":     func(tree.Tree) {},
		"that of another set": func(tr tree.Tree) { put(t, tr, MarkFile, "another set, replica 1\n") },
	} {
		there := openFolder(t)
		other(there)
		p.Replicas[0].Tree = there
		if _, err := p.Scan(t.Context(), 1); !errors.Is(err, ErrNotReplica) {
			t.Errorf("%s is scanned: %v", name, err)
		}
		put(t, b, "ledgers/"+name, "new at b")
		if _, err := p.Scan(t.Context(), 2); err != nil {
			t.Fatal(err)
		}
		if _, err := p.Carry(t.Context(), p.Lanes[1], 10); !errors.Is(err, ErrNotReplica) {
			t.Errorf("%s is carried to: %v", name, err)
		}
		if seen := shown(t, there); len(seen) != 0 {
			t.Errorf("%s holds %v", name, seen)
		}
	}
	p.Replicas[0].Tree = a
	p.settleDown()
	if p.same(); len(shown(t, b)) != 4 {
		t.Errorf("in the end there are %v", shown(t, b))
	}
}

func openFolder(t *testing.T) tree.Tree {
	t.Helper()
	f, err := folder.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	return f
}

func openShare(t *testing.T, server *fileserver.Server, share string) tree.Tree {
	t.Helper()
	session, err := smb.Dial(context.Background(), smb.Target{Address: server.HostPort(), Account: "warden", Password: standintest.Password("warden")})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { session.Close() })
	tr, err := session.Tree(context.Background(), share, "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { tr.Close() })
	return tr
}

func TestFolders(t *testing.T) { testPair(t, openFolder(t), openFolder(t)) }

func TestBucket(t *testing.T) {
	testPair(t, openFolder(t), standintest.OpenBucket(t, standintest.Cloud(t).Bucket(t)))
}

func TestShares(t *testing.T) {
	oak, elm := standintest.FileServer(t, "oak", "store"), standintest.FileServer(t, "elm", "store")
	a, b := openShare(t, oak, "store"), openShare(t, elm, "store")
	t.Run("Shares", func(t *testing.T) { testPair(t, a, b) })
}

// over gives a folder of a host through its mover, and counts what crosses.
func over(t *testing.T, dir string) (tree.Tree, *atomic.Int64) {
	t.Helper()
	local, err := folder.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	handler := &remote.Handler{Name: "reed", Secret: "only for tests", Folders: []remote.Served{{Name: "beds", Path: dir, Tree: local, Sub: local.Sub}}}
	server := httptest.NewUnstartedServer(handler)
	server.EnableHTTP2 = true
	crossed := new(atomic.Int64)
	server.Listener = &counting{server.Listener, crossed}
	server.StartTLS()
	host, _, err := remote.Dial(t.Context(), remote.Target{Address: server.Listener.Addr().String(), Secret: handler.Secret, Fingerprint: remote.Fingerprint(server.Certificate().Raw), Timeout: 5 * time.Second})
	if err != nil {
		t.Fatal(err)
	}
	tr, err := host.Tree(t.Context(), "beds", "")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		host.Close()
		server.Close()
		handler.Close()
		local.Close()
	})
	return tr, crossed
}

type counting struct {
	net.Listener
	n *atomic.Int64
}

func (c *counting) Accept() (net.Conn, error) {
	conn, err := c.Listener.Accept()
	return &countingConn{conn, c.n}, err
}

type countingConn struct {
	net.Conn
	n *atomic.Int64
}

func (c *countingConn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	c.n.Add(int64(n))
	return n, err
}

func (c *countingConn) Write(p []byte) (int, error) {
	n, err := c.Conn.Write(p)
	c.n.Add(int64(n))
	return n, err
}

// Of a large file that people changed in places, copied and moved at a host, little
// leaves that host, and little comes to the other: they hash and cut it themselves.
func TestMoverToMover(t *testing.T) {
	a, fromA := over(t, t.TempDir())
	b, toB := over(t, t.TempDir())
	content := make([]byte, 16<<20)
	random := rand.NewChaCha8([32]byte{1})
	_, _ = random.Read(content)
	write := func(name string) {
		t.Helper()
		if _, err := a.Put(t.Context(), name, bytes.NewReader(content), tree.PutOptions{Replace: true}); err != nil {
			t.Fatal(err)
		}
	}
	write("scan.tif")
	text := strings.Repeat("Digitalis purpurea, bed 7, viable\n", 200_000)
	if _, err := a.Put(t.Context(), "ledger.txt", strings.NewReader(text), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	p := newPair(t, a, b)
	p.settleDown()
	for at := range 20 {
		copy(content[at*(len(content)/20):], "a stamp of the herbarium")
	}
	write("scan.tif")
	for _, c := range []struct {
		what string
		do   func()
		most int64
	}{
		{"20 places of 16 MiB were changed", func() {}, int64(len(content)) * 7 / 100},
		{"it was moved", func() {
			if err := a.Rename(t.Context(), "scan.tif", "moved.tif", false); err != nil {
				t.Fatal(err)
			}
		}, 100_000},
		{"nothing happened", func() {}, 20_000},
	} {
		c.do()
		was := [2]int64{fromA.Load(), toB.Load()}
		p.settleDown()
		for i, crossed := range []int64{fromA.Load() - was[0], toB.Load() - was[1]} {
			if crossed > c.most {
				t.Errorf("%s: %d bytes crossed at side %d, at most %d should", c.what, crossed, i, c.most)
			}
		}
		if want, got := shown(t, a), shown(t, b); !maps.Equal(want, got) {
			t.Errorf("%s: the replicas differ", c.what)
		}
	}
}
