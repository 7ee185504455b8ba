package volume

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"
)

// A volume is as large as it was asked to be, keeps its files from one mount to the next, and is left by all of what was
// mounted below a folder.
func TestVolume(t *testing.T) {
	dir := t.TempDir()
	image, at := filepath.Join(dir, "volume.ext4"), filepath.Join(dir, "mounted", "deep")
	v, err := Mount(t.Context(), image, at, 8<<20)
	if errors.Is(err, ErrUnsupported) {
		t.Skip(err)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = UnmountBelow(context.Background(), dir) })
	var fs unix.Statfs_t
	if err := unix.Statfs(at, &fs); err != nil || int64(fs.Blocks)*fs.Bsize > 8<<20 || int64(fs.Blocks)*fs.Bsize < 4<<20 {
		t.Errorf("it has %d blocks of %d bytes, %v", fs.Blocks, fs.Bsize, err)
	}
	if err := os.WriteFile(filepath.Join(at, "kept"), []byte("fern"), 0o600); err != nil {
		t.Fatal(err)
	}
	if again, err := Mount(t.Context(), image, at, 8<<20); err != nil || again.Path != at {
		t.Errorf("mounted twice: %+v, %v", again, err)
	}
	if err := v.Unmount(t.Context()); err != nil || mounted(at) {
		t.Fatalf("unmounted: %v, mounted %v", err, mounted(at))
	}
	if _, err := Mount(t.Context(), image, at, 8<<20); err != nil {
		t.Fatal(err)
	}
	if text, err := os.ReadFile(filepath.Join(at, "kept")); err != nil || string(text) != "fern" {
		t.Errorf("mounted again: %q, %v", text, err)
	}
	if err := UnmountBelow(t.Context(), dir); err != nil || mounted(at) {
		t.Errorf("unmounted below: %v, mounted %v", err, mounted(at))
	}
}

func TestLike(t *testing.T) {
	dir := t.TempDir()
	if err := os.Chmod(dir, 0o2750); err != nil {
		t.Fatal(err)
	}
	before, err := os.Stat(dir)
	if err != nil {
		t.Fatal(err)
	}
	other := t.TempDir()
	if err := Like(other, before); err != nil {
		t.Fatal(err)
	}
	if after, err := os.Stat(other); err != nil || after.Mode().Perm() != 0o750 {
		t.Errorf("the mode is %v, %v", after.Mode(), err)
	}
}
