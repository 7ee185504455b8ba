package e2e

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"bridgespan/e2e/harness"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
)

// testMount mounts the gateway with davfs2, through FUSE, as people do on
// workstations; copies a tree in and out; and compares it at both ends.
func testMount(t *testing.T, e *harness.Estate) {
	if _, err := os.OpenFile("/dev/fuse", os.O_RDWR, 0); err != nil || os.Getuid() != 0 {
		t.Skipf("this machine lets nobody mount through FUSE: %v", err)
	}
	dir := t.TempDir()
	in, out := filepath.Join(dir, "in"), filepath.Join(dir, "out")
	want := map[string][]byte{
		"empty": {}, "notes/short.txt": []byte("Galium odoratum\n"), "notes/Überblick & Plan (neu).txt": []byte("mit Umlaut\n"),
		"deep/a/b/c/d/leaf.txt": []byte("at the end"), "large.bin": bytes.Repeat([]byte("0123456789abcdef"), 300_000),
	}
	for i := range 40 {
		want[fmt.Sprintf("many/%02d.dat", i)] = bytes.Repeat([]byte{byte(i)}, 1000*i)
	}
	for name, content := range want {
		write(t, filepath.Join(in, name), content)
	}
	m := newMount(t, e.Gateway+"/garden/store/")
	m.mount(t)
	command(t, "cp", "-r", in, filepath.Join(m.at, "through-fuse"))
	command(t, "mv", filepath.Join(m.at, "through-fuse/notes/short.txt"), filepath.Join(m.at, "through-fuse/notes/moved.txt"))
	command(t, "rm", filepath.Join(m.at, "through-fuse/many/00.dat"))
	m.unmount(t) // it waits until everything is sent
	want["notes/moved.txt"] = want["notes/short.txt"]
	delete(want, "notes/short.txt")
	delete(want, "many/00.dat")

	if got := atServer(t, harness.Tree(t, e.Oak, "store"), "through-fuse"); !maps.EqualFunc(got, want, bytes.Equal) {
		t.Errorf("at the server there are %q, want %q", slices.Sorted(maps.Keys(got)), slices.Sorted(maps.Keys(want)))
	}
	m.mount(t)
	command(t, "cp", "-r", filepath.Join(m.at, "through-fuse"), out)
	command(t, "rm", "-r", filepath.Join(m.at, "through-fuse"))
	m.unmount(t)
	got := map[string][]byte{}
	err := filepath.WalkDir(out, func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		rest, _ := filepath.Rel(out, name)
		got[rest], err = os.ReadFile(name)
		return err
	})
	if err != nil || !maps.EqualFunc(got, want, bytes.Equal) {
		t.Errorf("copied out: %q, %v", slices.Sorted(maps.Keys(got)), err)
	}
	if _, err := harness.Tree(t, e.Oak, "store").Stat(t.Context(), "through-fuse"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("after rm -r: %v", err)
	}
}

// mounting is a mount by davfs2 with settings of its own.
type mounting struct{ url, at, config string }

func newMount(t *testing.T, url string) *mounting {
	t.Helper()
	dir, err := os.MkdirTemp("", "bspan-mount-") // t.TempDir lets in nobody else, and davfs2 works as a user of its own
	if err == nil {
		err = os.Chmod(dir, 0o711)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	m := &mounting{url: url, at: filepath.Join(dir, "mounted"), config: filepath.Join(dir, "conf")}
	cache := filepath.Join(dir, "cache")
	for _, d := range []string{m.at, cache} {
		if err := os.Mkdir(d, 0o775); err != nil {
			t.Fatal(err)
		}
	}
	group, err := user.LookupGroup("davfs2")
	if err != nil {
		t.Fatal(err)
	}
	id, _ := strconv.Atoi(group.Gid)
	if err := os.Chown(cache, 0, id); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(cache, 0o775); err != nil {
		t.Fatal(err)
	}
	secrets := filepath.Join(dir, "secrets")
	write(t, secrets, fmt.Appendf(nil, "%s ada %s\n", url, standintest.Password("ada")))
	write(t, m.config, fmt.Appendf(nil, "secrets %s\ncache_dir %s\nask_auth 0\nbuf_size 64\ndelay_upload 0\nuse_locks 1\n", secrets, cache))
	return m
}

func (m *mounting) mount(t *testing.T) {
	t.Helper()
	command(t, "mount.davfs", m.url, m.at, "-o", "conf="+m.config)
	t.Cleanup(func() { _ = exec.Command("umount", "-l", m.at).Run() }) // it is unmounted, unless the test failed
}

func (m *mounting) unmount(t *testing.T) {
	t.Helper()
	command(t, "umount.davfs", m.at)
}

func command(t *testing.T, name string, args ...string) {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%s %s: %v: %s", name, strings.Join(args, " "), err, out)
	}
}

func write(t *testing.T, name string, content []byte) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(name, content, 0o600); err != nil {
		t.Fatal(err)
	}
}

// atServer reads all files below a folder of a tree.
func atServer(t *testing.T, from tree.Tree, top string) map[string][]byte {
	t.Helper()
	got := map[string][]byte{}
	var walk func(name string)
	walk = func(name string) {
		for e, err := range from.List(t.Context(), name, tree.Plain) {
			if err != nil {
				t.Fatal(err)
			}
			below := name + "/" + e.Name
			if e.Kind == tree.Folder {
				walk(below)
				continue
			}
			content, err := from.Open(t.Context(), below)
			if err != nil {
				t.Fatal(err)
			}
			b := make([]byte, e.Size)
			if n, err := content.ReadAt(b, 0); int64(n) != e.Size {
				t.Fatal(err)
			}
			content.Close()
			got[strings.TrimPrefix(below, top+"/")] = b
		}
	}
	walk(top)
	return got
}
