package standintest

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/sys/unix"

	"bridgespan/standin/volume"
)

// Volume mounts a small volume at a folder until the test ends, and skips the test where that is not possible. What has files
// open there must be ended before.
func Volume(t testing.TB, at string, size int64) {
	t.Helper()
	v, err := volume.Mount(t.Context(), filepath.Join(t.TempDir(), "volume.ext4"), at, size)
	if errors.Is(err, volume.ErrUnsupported) {
		t.Skip(err)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := v.Unmount(context.Background()); err != nil {
			t.Error(err)
		}
	})
}

// TakeSpace takes up the space of a volume with a file on it, except for so many bytes. The space is free again after free.
func TakeSpace(t testing.TB, file string, except int64) (free func()) {
	t.Helper()
	f, err := os.Create(file)
	if err != nil {
		t.Fatal(err)
	}
	var st unix.Statfs_t
	err = unix.Statfs(file, &st)
	if err == nil {
		err = unix.Fallocate(int(f.Fd()), 0, 0, int64(st.Bavail)*st.Bsize-except)
	}
	if err = errors.Join(err, f.Close()); err != nil {
		t.Fatal(err)
	}
	return func() {
		t.Helper()
		if err := os.Remove(file); err != nil {
			t.Fatal(err)
		}
	}
}
