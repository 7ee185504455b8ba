package standintest

import (
	"context"
	"errors"
	"path/filepath"
	"testing"

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
