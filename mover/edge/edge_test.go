package edge

import (
	"bytes"
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"bridgespan/guard"
	"bridgespan/tree"
	"bridgespan/tree/folder"
	"bridgespan/tree/memory"
	"bridgespan/tree/treetest"
)

// bench is a folder with stubs, and the tree that has their contents.
type bench struct {
	tree.Forwarder
	*Edge
	dir     string
	folder  *folder.Tree
	objects *memory.Tree
}

func (b *bench) Capabilities() tree.Capabilities { return b.folder.Capabilities() }
func (b *bench) Close() error                    { return b.folder.Close() }
func (b *bench) Mark(ctx context.Context, name string) (tree.Mark, error) {
	return b.folder.Mark(ctx, name)
}

// Offload lets the objects have the content of a file before it becomes a stub.
func (b *bench) Offload(ctx context.Context, name string, expected tree.Entry, mark tree.Mark) (tree.Entry, error) {
	content, err := tree.ReadFile(ctx, b.folder, name)
	if err != nil {
		return tree.Entry{}, err
	}
	o, err := b.objects.Put(ctx, mark.Path, bytes.NewReader(content), tree.PutOptions{Replace: true, Meta: tree.Meta{Modified: expected.Modified}})
	if err != nil {
		return tree.Entry{}, err
	}
	mark.Version = o.Version
	return b.folder.Offload(ctx, name, expected, mark)
}

func newBench(t *testing.T, dir string) *bench {
	t.Helper()
	f, err := folder.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	b := &bench{Edge: &Edge{}, dir: dir, folder: f, objects: &memory.Tree{Objects: true}}
	b.Forwarder.Use = func(_ context.Context, _ bool, do func(tree.Tree) error) error { return do(f) }
	b.Edge.Use(b.objects)
	f.FetchWith(b.Edge)
	return b
}

func needsRoot(t *testing.T) {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("marks of stubs need the rights of the system's administrator")
	}
}

func TestConformance(t *testing.T) {
	needsRoot(t)
	treetest.Run(t, func(t *testing.T) tree.Tree { return newBench(t, t.TempDir()) })
}

func noise(seed uint64, size int) []byte {
	b := make([]byte, size)
	_, _ = io.ReadFull(rand.NewChaCha8([32]byte{byte(seed)}), b)
	return b
}

// stub makes a stub.
func (b *bench) stub(t *testing.T, name string, content []byte) tree.Entry {
	t.Helper()
	e, err := b.folder.Put(t.Context(), name, bytes.NewReader(content), tree.PutOptions{})
	if err != nil {
		t.Fatal(err)
	}
	treetest.MakeStub(t, b, name)
	return e
}

func (b *bench) residency(t *testing.T, name string, want tree.Residency) {
	t.Helper()
	if e, err := b.folder.Stat(t.Context(), name); err != nil || e.Residency != want {
		t.Errorf("%s: %+v, %v; want residency %d", name, e, err, want)
	}
}

// Whoever reads parts of a stub in any order, side by side with others, gets the true bytes; the rest is not
// fetched for that.
func TestParts(t *testing.T) {
	needsRoot(t)
	b := newBench(t, t.TempDir())
	content := noise(1, 40<<20+12345)
	b.stub(t, "f", content)
	c, err := b.folder.Open(t.Context(), "f")
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	var group guard.Group
	for i := range 8 {
		group.Go(func() error {
			random := rand.New(rand.NewPCG(uint64(i), 1))
			for range 20 {
				p := make([]byte, 1+random.IntN(100_000))
				at := random.Int64N(4 << 20)
				if n, err := c.ReadAt(p, at); err != nil && err != io.EOF || !bytes.Equal(p[:n], content[at:at+int64(n)]) {
					t.Errorf("%d bytes at %d are wrong, %v", n, at, err)
				}
			}
			return nil
		})
	}
	_ = group.Wait()
	if _, err := b.folder.Mark(t.Context(), "f"); err != nil {
		t.Errorf("reads made another file of it: %v", err)
	}
	e, err := b.folder.Stat(t.Context(), "f")
	if err != nil || e.Residency != tree.Stub || e.Allocated > 38<<20 {
		t.Errorf("after reads of its beginning it is %+v, %v", e, err)
	}
	if err := tree.Fetch(t.Context(), b.folder, "f"); err != nil {
		t.Fatal(err)
	}
	b.residency(t, "f", tree.Whole)
	if got, err := os.ReadFile(filepath.Join(b.dir, "f")); err != nil || !bytes.Equal(got, content) {
		t.Errorf("the content is another one, %v", err)
	}
}

// What the bucket has under the path of a stub by now is not its content.
func TestReplacedObject(t *testing.T) {
	needsRoot(t)
	for name, change := range map[string]func(b *bench){
		"replaced": func(b *bench) {
			_, _ = b.objects.Put(context.Background(), "f", bytes.NewReader(noise(9, 100_000)), tree.PutOptions{Replace: true})
		},
		"removed": func(b *bench) { _ = b.objects.Remove(context.Background(), "f") },
	} {
		b := newBench(t, t.TempDir())
		b.stub(t, "f", noise(1, 100_000))
		change(b)
		if err := tree.Fetch(t.Context(), b.folder, "f"); !errors.Is(err, tree.ErrNoContent) {
			t.Errorf("%s: %v", name, err)
		}
		b.residency(t, "f", tree.Stub)
	}
}

// A file that was renamed, here alone or here and in the bucket, finds its content.
func TestRenamed(t *testing.T) {
	needsRoot(t)
	for _, there := range []bool{false, true} {
		b := newBench(t, t.TempDir())
		content := noise(1, 100_000)
		b.stub(t, "f", content)
		if err := b.folder.Rename(t.Context(), "f", "g", false); err != nil {
			t.Fatal(err)
		}
		if there {
			if err := b.objects.Rename(t.Context(), "f", "g", false); err != nil {
				t.Fatal(err)
			}
		}
		if got, err := tree.ReadFile(t.Context(), b.folder, "g"); err != nil || !bytes.Equal(got, content) {
			t.Errorf("renamed in the bucket: %v: %v", there, err)
		}
	}
}

// Content that is not what the mark says is dropped again.
func TestWrongContent(t *testing.T) {
	needsRoot(t)
	b := newBench(t, t.TempDir())
	e := b.stub(t, "f", noise(1, 100_000))
	o, err := b.objects.Put(t.Context(), "f", bytes.NewReader(noise(2, 100_000)), tree.PutOptions{Replace: true, Meta: tree.Meta{Modified: e.Modified}})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := b.folder.Put(t.Context(), "f", bytes.NewReader(noise(1, 100_000)), tree.PutOptions{Replace: true, Meta: tree.Meta{Modified: e.Modified}}); err != nil {
		t.Fatal(err)
	}
	e, err = b.folder.Stat(t.Context(), "f")
	if err == nil {
		_, err = b.folder.Offload(t.Context(), "f", e, tree.Mark{Path: "f", Version: o.Version, Modified: o.Modified, Digest: [32]byte{1}})
	}
	if err != nil {
		t.Fatal(err)
	}
	if err := tree.Fetch(t.Context(), b.folder, "f"); !errors.Is(err, tree.ErrAltered) {
		t.Errorf("wrong content: %v", err)
	}
	if e, err := b.folder.Stat(t.Context(), "f"); err != nil || e.Residency != tree.Stub || e.Allocated > 64<<10 {
		t.Errorf("afterwards it is %+v, %v", e, err)
	}
}

// Readers wait while the bucket is away, with a bound, and go on when it comes back.
func TestAway(t *testing.T) {
	needsRoot(t)
	b := newBench(t, t.TempDir())
	content := noise(1, 3<<20)
	b.stub(t, "f", content)
	b.SetWait(200 * time.Millisecond)
	var away atomic.Bool
	asked := make(chan struct{}, 100)
	b.objects.Fault = func(step, _ string) error {
		if away.Load() && (step == "stat" || step == "open" || step == "read") {
			asked <- struct{}{}
			return tree.ErrUnreachable
		}
		return nil
	}
	away.Store(true)
	if err := tree.Fetch(t.Context(), b.folder, "f"); !errors.Is(err, tree.ErrUnreachable) {
		t.Errorf("away: %v", err)
	}
	for len(asked) > 0 {
		<-asked
	}
	b.SetWait(time.Minute)
	done := guard.Result(func() error { return tree.Fetch(context.Background(), b.folder, "f") })
	<-asked
	away.Store(false)
	if err := <-done; err != nil {
		t.Errorf("back again: %v", err)
	}
	b.residency(t, "f", tree.Whole)
	if b.Counts().Fetched != 1 || b.Counts().FetchedBytes != 3<<20 || b.Counts().Failed != 1 {
		t.Errorf("counted %+v", b.Counts())
	}
}

// A file that a program truncates while its content arrives keeps its new length.
func TestTruncatedWhileFilled(t *testing.T) {
	needsRoot(t)
	b := newBench(t, t.TempDir())
	content := noise(1, 300_000)
	b.stub(t, "f", content)
	f, err := os.OpenFile(filepath.Join(b.dir, "f"), os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	s, err := folder.OpenedStub(int(f.Fd()))
	if err == nil {
		err = os.Truncate(f.Name(), 100_000)
	}
	if err == nil {
		err = s.WriteAt(content[folder.FillUnit:], folder.FillUnit)
	}
	if err == nil {
		err = s.WriteAt(content[4*folder.FillUnit:], 4*folder.FillUnit)
	}
	if err != nil {
		t.Fatal(err)
	}
	if got, err := tree.ReadFile(t.Context(), b.folder, "f"); err != nil || !bytes.Equal(got, content[:100_000]) {
		t.Errorf("%d bytes, %v", len(got), err)
	}
}

func FuzzAccess(f *testing.F) {
	f.Add([]byte("\x30\x00\x00\x00\x03\x00\x18\x00\x00\x00\x10\x00\x00\x00\x00\x00\x05\x00\x00\x00\x01\x00\x00\x00\x06\x00\x18\x00\x00\x00\x00\x00\x00\x10\x00\x00\x00\x00\x00\x00\x00\x00\x01\x00\x00\x00\x00\x00"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if _, n := accessOf(b); n < 0 || n > len(b) {
			t.Errorf("%d of %d bytes", n, len(b))
		}
	})
}
