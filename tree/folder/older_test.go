package folder

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"bridgespan/tree"
	"bridgespan/tree/treetest"
)

// onOlder has a test run as on a kernel that knows neither openat2(2) nor listxattrat(2).
func onOlder(t *testing.T) {
	open, list := lacksOpenat2.Load(), lacksListxattrat.Load()
	lacksOpenat2.Store(true)
	lacksListxattrat.Store(true)
	t.Cleanup(func() {
		lacksOpenat2.Store(open)
		lacksListxattrat.Store(list)
	})
}

func openTree(t *testing.T, dir string) *Tree {
	t.Helper()
	tr, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { tr.Close() })
	return tr
}

func TestOnOlderKernels(t *testing.T) {
	onOlder(t)
	treetest.Run(t, func(t *testing.T) tree.Tree { return openTree(t, t.TempDir()) })
}

// Whether an entry has something of ours is told alike by both ways to ask.
func TestKeepsNothing(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"plain", "theirs", "ours"} {
		if err := os.WriteFile(filepath.Join(dir, name), nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Mkdir(filepath.Join(dir, "folder"), 0o755); err != nil {
		t.Fatal(err)
	}
	for name, attribute := range map[string]string{"theirs": "user.other", "ours": ownAttributes} {
		if err := unix.Setxattr(filepath.Join(dir, name), attribute, []byte{1, 0, 0, 0}, 0); err != nil {
			t.Skip("no extended attributes here: ", err)
		}
	}
	// More than the names' room: what is not certain is looked at.
	crowded := filepath.Join(dir, "crowded")
	if err := os.WriteFile(crowded, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	for i := range 6 {
		if err := unix.Setxattr(crowded, "user."+strings.Repeat(string(rune('a'+i)), 120), nil, 0); err != nil {
			t.Skip("no room for extended attributes here: ", err)
		}
	}
	if err := os.Symlink("ours", filepath.Join(dir, "link")); err != nil {
		t.Fatal(err)
	}
	tr := openTree(t, dir)
	want := map[string]bool{"plain": true, "theirs": true, "folder": true, "ours": false, "crowded": false, "link": true, "nothing": false}
	check := func(t *testing.T) {
		for name, want := range want {
			if got := tr.keeping.keepsNothing(int(tr.top.Fd()), name); got != want {
				t.Errorf("that %s keeps nothing of ours is %v, want %v", name, got, want)
			}
		}
	}
	t.Run("as this kernel does", check)
	t.Run("as an older one does", func(t *testing.T) { onOlder(t); check(t) })
}

// What is written without an *os.File is all there, or an error.
func TestBare(t *testing.T) {
	dir := t.TempDir()
	tr := openTree(t, dir)
	fd, err := tr.openBare("file", os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		t.Fatal(err)
	}
	text := strings.Repeat("0123456789", 100_000)
	for _, part := range []string{text[:10], "", text[10:]} {
		if n, err := bare(fd).Write([]byte(part)); n != len(part) || err != nil {
			t.Errorf("%d of %d bytes were written, %v", n, len(part), err)
		}
	}
	if err := bare(fd).flush(); err != nil {
		t.Error(err)
	}
	unix.Close(fd)
	if got, err := os.ReadFile(filepath.Join(dir, "file")); err != nil || string(got) != text {
		t.Errorf("%d bytes are there, %v", len(got), err)
	}
	if info, err := os.Stat(filepath.Join(dir, "file")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", info, err)
	}
	fd, err = tr.openBare("file", os.O_RDONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer unix.Close(fd)
	if n, err := bare(fd).Write([]byte("x")); n != 0 || err != unix.EBADF {
		t.Errorf("what may not be written: %d bytes, %v", n, err)
	}
	full, err := unix.Open("/dev/full", unix.O_WRONLY, 0)
	if err != nil {
		t.Skip(err)
	}
	defer unix.Close(full)
	if _, err := bare(full).Write([]byte("x")); err != unix.ENOSPC {
		t.Errorf("a full disk: %v", err)
	}
}
