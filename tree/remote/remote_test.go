package remote_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"testing/iotest"
	"time"

	"bridgespan/core/chunk"
	"bridgespan/tree"
	"bridgespan/tree/folder"
	"bridgespan/tree/memory"
	"bridgespan/tree/remote"
	"bridgespan/tree/treetest"
)

const secret = "only for tests"

// mover is a mover that serves some folders.
type mover struct {
	*remote.Handler
	target  remote.Target
	server  *httptest.Server
	crossed atomic.Int64 // bytes of its connections, both ways
}

func serve(t testing.TB, folders map[string]tree.Tree) *mover {
	t.Helper()
	m := &mover{Handler: &remote.Handler{Name: "reed", Secret: secret}}
	for name, tr := range folders {
		f := remote.Served{Name: name, Path: "/" + name, Tree: tr}
		if s, ok := tr.(*folder.Tree); ok {
			f.Sub = s.Sub
		}
		m.Folders = append(m.Folders, f)
	}
	m.server = httptest.NewUnstartedServer(m.Handler)
	m.server.EnableHTTP2 = true
	m.server.Listener = &counted{m.server.Listener, &m.crossed}
	m.server.StartTLS()
	t.Cleanup(m.server.Close)
	t.Cleanup(m.Handler.Close)
	m.target = remote.Target{Address: m.server.Listener.Addr().String(), Secret: secret, Fingerprint: remote.Fingerprint(m.server.Certificate().Raw), Timeout: 5 * time.Second}
	return m
}

type counted struct {
	net.Listener
	n *atomic.Int64
}

func (c *counted) Accept() (net.Conn, error) {
	conn, err := c.Listener.Accept()
	return &countedConn{conn, c.n}, err
}

type countedConn struct {
	net.Conn
	n *atomic.Int64
}

func (c *countedConn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	c.n.Add(int64(n))
	return n, err
}

func (c *countedConn) Write(p []byte) (int, error) {
	n, err := c.Conn.Write(p)
	c.n.Add(int64(n))
	return n, err
}

func (m *mover) open(t testing.TB, name, sub string) *remote.Tree {
	t.Helper()
	host, _, err := remote.Dial(t.Context(), m.target)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { host.Close() })
	tr, err := host.Tree(t.Context(), name, sub)
	if err != nil {
		t.Fatal(err)
	}
	return tr
}

func localFolder(t testing.TB) *folder.Tree {
	t.Helper()
	tr, err := folder.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { tr.Close() })
	return tr
}

func TestConformance(t *testing.T) {
	treetest.Run(t, func(t *testing.T) tree.Tree {
		return serve(t, map[string]tree.Tree{"herbarium": localFolder(t)}).open(t, "herbarium", "")
	})
}

// A mover reads back what it stored.
func TestReadBack(t *testing.T) {
	tr := serve(t, map[string]tree.Tree{"herbarium": &memory.Tree{Keep: func(_ string, b []byte) []byte { b[0]++; return b }}}).open(t, "herbarium", "")
	for readBack, want := range map[bool]error{false: nil, true: tree.ErrAltered} {
		_, err := tree.Stage(t.Context(), tr, fmt.Sprintf("staged-%t", readBack), strings.NewReader("content"), tree.PutOptions{ReadBack: readBack})
		if !errors.Is(err, want) {
			t.Errorf("Stage, read back %t: %v, want %v", readBack, err, want)
		}
	}
}

// A folder within the one that is served is a tree of its own, and so is what
// cannot do all that a folder can.
func TestConformanceOfOthers(t *testing.T) {
	t.Run("below", func(t *testing.T) {
		treetest.Run(t, func(t *testing.T) tree.Tree {
			local := localFolder(t)
			if err := tree.MkdirAll(t.Context(), local, "scans/2026"); err != nil {
				t.Fatal(err)
			}
			return serve(t, map[string]tree.Tree{"herbarium": local}).open(t, "herbarium", "scans/2026")
		})
	})
	t.Run("memory", func(t *testing.T) {
		treetest.Run(t, func(t *testing.T) tree.Tree {
			return serve(t, map[string]tree.Tree{"herbarium": new(memory.Tree)}).open(t, "herbarium", "")
		})
	})
}

// Nobody is served who does not know the secret, and no secret is shown to a stranger.
func TestStrangers(t *testing.T) {
	m := serve(t, map[string]tree.Tree{"herbarium": localFolder(t)})
	wrong := m.target
	wrong.Secret = "guessed"
	if _, _, err := remote.Dial(t.Context(), wrong); !errors.Is(err, remote.ErrSecret) {
		t.Errorf("with another secret: %v", err)
	}
	shown := atomic.Bool{}
	stranger := httptest.NewTLSServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { shown.Store(true) }))
	defer stranger.Close()
	wrong = m.target
	wrong.Address, wrong.Fingerprint = stranger.Listener.Addr().String(), strings.Repeat("00", 32)
	if _, _, err := remote.Dial(t.Context(), wrong); !errors.Is(err, remote.ErrStranger) || shown.Load() {
		t.Errorf("a stranger: %v, was asked: %v", err, shown.Load())
	}
	m.server.Close()
	if _, _, err := remote.Dial(t.Context(), m.target); !errors.Is(err, tree.ErrUnreachable) {
		t.Errorf("nobody: %v", err)
	}
}

func TestFolders(t *testing.T) {
	m := serve(t, map[string]tree.Tree{"herbarium": localFolder(t)})
	host, info, err := remote.Dial(t.Context(), m.target)
	if err != nil || info.Name != "reed" || len(info.Folders) != 1 || info.Folders[0].Name != "herbarium" || info.Folders[0].Space.Total == 0 || time.Since(info.Time).Abs() > time.Minute {
		t.Fatalf("%+v, %v", info, err)
	}
	defer host.Close()
	if _, err := host.Tree(t.Context(), "council", ""); !errors.Is(err, remote.ErrNoFolder) {
		t.Errorf("a folder that is not served: %v", err)
	}
	for _, sub := range []string{"nowhere", "../..", "a/../../.."} {
		if _, err := host.Tree(t.Context(), "herbarium", sub); !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrInvalid) {
			t.Errorf("the folder %q in it: %v", sub, err)
		}
	}
}

// A file is hashed and cut where it lies, and comes as it is.
func TestNear(t *testing.T) {
	local := localFolder(t)
	m := serve(t, map[string]tree.Tree{"herbarium": local})
	far := m.open(t, "herbarium", "")
	random := make([]byte, 5<<20)
	for i := range random {
		random[i] = byte(rand.Uint32())
	}
	text := []byte(strings.Repeat("Digitalis purpurea, bed 7, viable\n", 100_000))
	for name, c := range map[string]struct {
		content     []byte
		least, most float64 // of its bytes that cross when it is read
	}{"random": {random, 1, 1.1}, "text": {text, 0, 0.1}, "short": {text[:40_000], 0, 0.3}, "empty": {nil, 0, 0}} {
		if _, err := local.Put(t.Context(), name, bytes.NewReader(c.content), tree.PutOptions{}); err != nil {
			t.Fatal(err)
		}
		near, err := local.Open(t.Context(), name)
		if err != nil {
			t.Fatal(err)
		}
		defer near.Close()
		before := m.crossed.Load()
		content, err := far.Open(t.Context(), name)
		if err != nil {
			t.Fatal(err)
		}
		sizes := chunk.For(int64(len(c.content)))
		got, err := tree.Chunks(t.Context(), content, sizes)
		want, bad := tree.Chunks(t.Context(), near, sizes)
		if err != nil || bad != nil || fmt.Sprint(got) != fmt.Sprint(want) {
			t.Errorf("%s: %d chunks, %v; %d at home, %v", name, len(got.Chunks), err, len(want.Chunks), bad)
		}
		if d, err := tree.Sum(t.Context(), content, tree.BLAKE3, nil); err != nil || d != want.Digest {
			t.Errorf("%s: BLAKE3 %x, %v; %x at home", name, d, err, want.Digest)
		}
		if d, err := tree.Sum(t.Context(), content, tree.SHA256, nil); err != nil || d != sha256.Sum256(c.content) {
			t.Errorf("%s: SHA-256 %x, %v", name, d, err)
		}
		if _, err := tree.Sum(t.Context(), content, "crc", nil); !errors.Is(err, tree.ErrUnsupported) {
			t.Errorf("%s: a hash that nobody knows: %v", name, err)
		}
		hashed := m.crossed.Load() - before
		if most := int64(len(c.content)/50 + 50_000); hashed > most {
			t.Errorf("%s: to be hashed and cut, %d bytes cross", name, hashed)
		}
		content.Close()
		before = m.crossed.Load()
		back, err := tree.ReadFile(t.Context(), far, name)
		crossed := float64(m.crossed.Load() - before)
		if err != nil || !bytes.Equal(back, c.content) {
			t.Errorf("%s: read %d bytes, %v", name, len(back), err)
		}
		if n := float64(len(c.content)); crossed < c.least*n || crossed > c.most*n+10_000 {
			t.Errorf("%s: to read %.0f bytes, %.0f cross", name, n, crossed)
		}
		before = m.crossed.Load()
		if _, err := tree.Stage(t.Context(), far, name+" sent", bytes.NewReader(c.content), tree.PutOptions{}); err != nil {
			t.Fatal(err)
		}
		if crossed, n := float64(m.crossed.Load()-before), float64(len(c.content)); crossed > c.most*n+10_000 {
			t.Errorf("%s: to write %.0f bytes, %.0f cross", name, n, crossed)
		}
	}
}

// A file that the mover closed, since nobody read it for long, is opened again, but
// never another one that has come to its place.
func TestForgottenFile(t *testing.T) {
	m := serve(t, map[string]tree.Tree{"herbarium": localFolder(t)})
	far := m.open(t, "herbarium", "")
	put := func(text string) {
		t.Helper()
		if _, err := far.Put(t.Context(), "scan", strings.NewReader(strings.Repeat(text, 50_000)), tree.PutOptions{Replace: true}); err != nil {
			t.Fatal(err)
		}
	}
	put("leaf")
	content, err := far.Open(t.Context(), "scan")
	if err != nil {
		t.Fatal(err)
	}
	defer content.Close()
	piece := make([]byte, 4)
	for _, forget := range []bool{false, true, false} {
		if forget {
			m.Handler.Close()
		}
		if n, err := content.ReadAt(piece, 100_000); n != 4 || err != nil || string(piece) != "leaf" {
			t.Errorf("forgotten %v: %q, %v", forget, piece[:n], err)
		}
	}
	m.Handler.Close()
	if _, err := tree.Sum(t.Context(), content, tree.BLAKE3, nil); err != nil {
		t.Errorf("hashed when it was forgotten: %v", err)
	}
	put("moss")
	m.Handler.Close()
	if n, err := content.ReadAt(piece, 100_000); err == nil || n != 0 {
		t.Errorf("of another file: %q, %v", piece[:n], err)
	}
}

// A mover that goes in the middle of an answer is never taken for the end of it.
func TestBrokenOff(t *testing.T) {
	m := serve(t, map[string]tree.Tree{"herbarium": localFolder(t)})
	far := m.open(t, "herbarium", "")
	for i := range 3000 {
		if err := far.Mkdir(t.Context(), fmt.Sprintf("%s %d", strings.Repeat("bed", 50), rand.Uint64())); err != nil {
			t.Fatal(i, err)
		}
	}
	seen := 0
	var last error
	for _, err := range far.List(context.WithoutCancel(t.Context()), ".", tree.Plain) {
		if seen++; seen == 1 {
			m.server.CloseClientConnections()
		}
		last = err
	}
	if last == nil && seen < 3000 {
		t.Errorf("%d of 3000 entries, and no error", seen)
	}
}

// When what is sent cannot be read to its end, the mover has thrown away what came
// of it by the time that the call returns.
func TestSourceBreaks(t *testing.T) {
	far := serve(t, map[string]tree.Tree{"data": localFolder(t)}).open(t, "data", "")
	broken := errors.New("the source broke")
	noise := make([]byte, 300<<10)
	_, _ = rand.NewChaCha8([32]byte{}).Read(noise)
	for name, content := range map[string][]byte{"nothing": nil, "a little": noise[:100], "noise": noise, "zeros": make([]byte, 300<<10)} {
		source := io.MultiReader(bytes.NewReader(content), iotest.ErrReader(broken))
		if _, err := far.Stage(t.Context(), "a", source, tree.PutOptions{Size: 1 << 20, SizeKnown: true}); !errors.Is(err, broken) {
			t.Errorf("%s: %v", name, err)
		}
		for e, err := range far.List(t.Context(), ".", tree.Plain) {
			t.Errorf("%s: %s is left, %v", name, e.Name, err)
		}
	}
}

// What people may call a file on the mover's host is no reason to distrust the mover.
func TestStrangeNames(t *testing.T) {
	local := localFolder(t)
	m := serve(t, map[string]tree.Tree{"herbarium": local})
	distrusted := false
	m.target.Untrusted = func(err error) { distrusted = true; t.Error(err) }
	names := []string{`back\slash`, "tab\tname", "line\nname", strings.Repeat("n", 255), strings.Repeat("ä", 127), "name.", " ", "~1", "CON"}
	for _, name := range names {
		if _, err := local.Put(t.Context(), name, strings.NewReader("x"), tree.PutOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	far := m.open(t, "herbarium", "")
	listed := 0
	for e, err := range far.List(t.Context(), ".", tree.Plain) {
		if listed++; err != nil {
			t.Errorf("%q: %v", e.Name, err)
		}
	}
	if listed != len(names) || distrusted {
		t.Errorf("%d of %d are listed", listed, len(names))
	}
	for _, name := range names {
		if text, err := tree.ReadFile(t.Context(), far, name); err != nil || string(text) != "x" {
			t.Errorf("%q holds %q, %v", name, text, err)
		}
	}
}
