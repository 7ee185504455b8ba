package edge

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"bridgespan/guard"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/treetest"
)

// eachTrigger runs a test with each trigger.
func eachTrigger(t *testing.T, run func(t *testing.T, b *bench)) {
	for _, m := range []Trigger{OnRead, OnOpen} {
		t.Run("filled on "+string(m), func(t *testing.T) { run(t, listening(t, m)) })
	}
}

// listening is a bench on a volume of its own, whose stubs are filled when programs use them.
func listening(t *testing.T, trigger Trigger) *bench {
	t.Helper()
	needsRoot(t)
	at := t.TempDir()
	standintest.Volume(t, at, 96<<20)
	dir := filepath.Join(at, "garden")
	if err := os.Mkdir(dir, 0o777); err != nil {
		t.Fatal(err)
	}
	b := newBench(t, dir)
	t.Cleanup(func() { b.folder.Close() })
	l, err := Listen(trigger)
	if errors.Is(err, ErrNoListener) {
		t.Skip(err)
	}
	if err != nil {
		t.Fatal(err)
	}
	err = l.Add(&Watched{Path: dir, Edge: b.Edge, Refused: []string{"head", "tar"}})
	if errors.Is(err, ErrNoListener) {
		t.Skip(errors.Join(err, l.Close()))
	}
	if err != nil {
		t.Fatal(err)
	}
	served := guard.Result(func() error { return l.Serve(context.WithoutCancel(t.Context())) })
	t.Cleanup(func() {
		if err := errors.Join(l.Close(), <-served); err != nil {
			t.Error(err)
		}
	})
	return b
}

// command runs a program in the folder.
func (b *bench) command(t *testing.T, name string, args ...string) ([]byte, error) {
	t.Helper()
	c := exec.CommandContext(t.Context(), name, args...)
	c.Dir = b.dir
	return c.Output()
}

// Programs that know nothing of stubs read them, and cannot tell them from whole files.
func TestPrograms(t *testing.T) { eachTrigger(t, testPrograms) }

func testPrograms(t *testing.T, b *bench) {
	content := noise(1, 5<<20+17)
	for name, run := range map[string]func(file string) ([]byte, error){
		"reads": func(file string) ([]byte, error) { return b.command(t, "cat", file) },
		"maps": func(file string) ([]byte, error) {
			return b.command(t, "python3", "-c", "import mmap,sys; f=open(sys.argv[1],'rb'); sys.stdout.buffer.write(mmap.mmap(f.fileno(),0,prot=mmap.PROT_READ)[:])", file)
		},
		"skips holes": func(file string) ([]byte, error) {
			_, err := b.command(t, "cp", file, "copy")
			if err != nil {
				return nil, err
			}
			return os.ReadFile(filepath.Join(b.dir, "copy"))
		},
		"moved meanwhile": func(file string) ([]byte, error) {
			if err := os.MkdirAll(filepath.Join(b.dir, "new"), 0o777); err != nil {
				return nil, err
			}
			if err := os.Rename(filepath.Join(b.dir, file), filepath.Join(b.dir, "new", file)); err != nil {
				return nil, err
			}
			return b.command(t, "cat", "new/"+file)
		},
	} {
		file := strings.ReplaceAll(name, " ", "-")
		before := b.stub(t, file, content)
		got, err := run(file)
		if err != nil || !bytes.Equal(got, content) {
			t.Errorf("%s: %d bytes, %v", name, len(got), err)
		}
		if e, err := b.folder.Stat(t.Context(), file); name != "moved meanwhile" && (err != nil || e.Residency != tree.Whole || !e.Modified.Equal(before.Modified)) {
			t.Errorf("%s: afterwards it is %+v, %v", name, e, err)
		}
	}
}

// Who writes to a stub writes to a whole file; who cuts it to nothing has an empty one.
func TestWriters(t *testing.T) { eachTrigger(t, testWriters) }

func testWriters(t *testing.T, b *bench) {
	content := noise(1, 3<<20)
	for name, c := range map[string]struct {
		script string
		want   []byte
	}{
		"a part":                     {"printf XYZ | dd of=f bs=1 seek=1000000 conv=notrunc status=none", slices.Concat(content[:1_000_000], []byte("XYZ"), content[1_000_003:])},
		"the end":                    {"printf XYZ >> f", slices.Concat(content, []byte("XYZ"))},
		"cut":                        {"truncate -s 1000000 f", content[:1_000_000]},
		"cut by its name":            {"python3 -c \"import os; os.truncate('f', 1000000)\"", content[:1_000_000]},
		"anew":                       {"printf XYZ > f", []byte("XYZ")},
		"anew, with holes":           {"python3 -c \"f=open('f','wb'); f.seek(5<<20); f.write(b'XYZ')\"", slices.Concat(make([]byte, 5<<20), []byte("XYZ"))},
		"cut to nothing by its name": {"python3 -c \"import os; os.truncate('f', 0); f=open('f','r+b'); f.seek(1<<20); f.write(b'XYZ')\"", slices.Concat(make([]byte, 1<<20), []byte("XYZ"))},
	} {
		b.stub(t, "f", content)
		if _, err := b.command(t, "sh", "-c", c.script); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		got, err := b.command(t, "cat", "f")
		if err != nil || !bytes.Equal(got, c.want) {
			t.Errorf("%s: %d bytes, want %d, %v", name, len(got), len(c.want), err)
		}
		b.residency(t, "f", tree.Whole)
		if err := os.Remove(filepath.Join(b.dir, "f")); err != nil {
			t.Fatal(err)
		}
	}
}

// A reader gets an error and no zeros when the content cannot be had, and a program that is to have none at once.
func TestRefused(t *testing.T) { eachTrigger(t, testRefused) }

func testRefused(t *testing.T, b *bench) {
	content := noise(1, 3<<20)
	b.stub(t, "f", content)
	if got, err := b.command(t, "head", "-c", "10", "f"); err == nil || len(got) > 0 {
		t.Errorf("a program that is to have no content gets %d bytes, %v", len(got), err)
	}
	// A program that skips holes without reading them would keep zeros.
	if got, err := b.command(t, "tar", "-cSf", "-", "f"); err == nil {
		t.Errorf("a refused program that skips holes archives %d bytes", len(got))
	}
	b.residency(t, "f", tree.Stub)
	b.SetWait(100 * time.Millisecond)
	b.Edge.Use(nil)
	if got, err := b.command(t, "cat", "f"); err == nil || len(got) > 0 {
		t.Errorf("without a bucket: %d bytes, %v", len(got), err)
	}
	b.Edge.Use(b.objects)
	if got, err := b.command(t, "cat", "f"); err != nil || !bytes.Equal(got, content) {
		t.Errorf("with it: %d bytes, %v", len(got), err)
	}
	// Offloaded once more, it is a stub once more: the kernel remembers nothing else of it.
	b.stub(t, "g", content)
	for range 2 {
		if got, err := b.command(t, "cat", "g"); err != nil || !bytes.Equal(got, content) {
			t.Errorf("read again: %d bytes, %v", len(got), err)
		}
		b.residency(t, "g", tree.Whole)
		treetest.MakeStub(t, b, "g")
		b.residency(t, "g", tree.Stub)
	}
}

// A file that a program has open is not offloaded.
func TestOpenFile(t *testing.T) { eachTrigger(t, testOpenFile) }

func testOpenFile(t *testing.T, b *bench) {
	if _, err := b.folder.Put(t.Context(), "f", bytes.NewReader(noise(1, 100_000)), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	e, err := b.folder.Stat(t.Context(), "f")
	if err != nil {
		t.Fatal(err)
	}
	f, err := os.Open(filepath.Join(b.dir, "f"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := b.folder.Offload(t.Context(), "f", e, tree.Mark{Path: "f"}); !errors.Is(err, tree.ErrInUse) {
		t.Errorf("open: %v", err)
	}
	f.Close()
	if _, err := b.folder.Offload(t.Context(), "f", e, tree.Mark{Path: "f"}); err != nil {
		t.Errorf("closed: %v", err)
	}
}

// A file system without extended attributes cannot hold stubs.
func TestUnableFileSystem(t *testing.T) {
	needsRoot(t)
	dir := t.TempDir()
	if err := unix.Mount("none", dir, "ramfs", 0, ""); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := unix.Unmount(dir, 0); err != nil {
			t.Error(err)
		}
	})
	if m, err := Supported(dir, AnyTrigger); !errors.Is(err, tree.ErrUnsupported) || !strings.Contains(err.Error(), "keeps no marks of stubs") {
		t.Errorf("it is said to fill them at %q, %v", m, err)
	}
	if left, err := os.ReadDir(dir); err != nil || len(left) > 0 {
		t.Errorf("%v is left, %v", left, err)
	}
	able := t.TempDir()
	standintest.Volume(t, able, 16<<20)
	if m, err := Supported(able, OnOpen); m != OnOpen || err != nil {
		t.Errorf("ext4: at %q, %v", m, err)
	}
}

func TestSystemVolume(t *testing.T) {
	needsRoot(t)
	l, err := Listen(AnyTrigger)
	if errors.Is(err, ErrNoListener) {
		t.Skip(err)
	}
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if err := l.Add(&Watched{Path: "/", Edge: &Edge{}}); !errors.Is(err, ErrSystemVolume) {
		t.Errorf("the system's volume: %v", err)
	}
}
