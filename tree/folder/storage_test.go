package folder

import (
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"
)

// What a tree lies on is told as the kernel has it.
func TestStorage(t *testing.T) {
	here, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer here.Close()
	space, err := here.Space(t.Context())
	if err != nil || space.Storage.ReadOnly || space.Storage.FileSystem == "" {
		t.Errorf("a folder that tests write to: %+v, %v", space, err)
	}
	if os.Geteuid() != 0 {
		t.Skip("only root mounts")
	}
	dir := filepath.Join(t.TempDir(), "mounted")
	if err := os.Mkdir(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := unix.Mount("none", dir, "tmpfs", unix.MS_RDONLY, "size=1m"); err != nil {
		t.Skipf("nothing can be mounted here: %v", err)
	}
	defer func() {
		if err := unix.Unmount(dir, 0); err != nil {
			t.Error(err)
		}
	}()
	mounted, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	space, err = mounted.Space(t.Context())
	mounted.Close()
	if s := space.Storage; err != nil || s.FileSystem != "tmpfs" || !s.ReadOnly || s.System || s.Removable || space.Total != 1<<20 {
		t.Errorf("a mounted one: %+v, %v", space, err)
	}
}
