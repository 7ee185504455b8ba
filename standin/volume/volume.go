// Package volume makes small volumes of this host: ext4 file systems in files, mounted through a loop device.
package volume

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// ErrUnsupported: this host mounts nothing for us.
var ErrUnsupported = errors.New("volumes cannot be mounted here")

// Volume is a mounted file system.
type Volume struct {
	Path  string // where it is mounted
	image string
}

// Mount mounts the volume that a file keeps at a folder, and makes it, with so many bytes, when there is none. It returns an
// error wrapping ErrUnsupported where that is not possible. The caller must call Unmount.
func Mount(ctx context.Context, image, at string, size int64) (*Volume, error) {
	v := &Volume{Path: at, image: image}
	if err := os.MkdirAll(at, 0o755); err != nil {
		return nil, err
	}
	if mounted(at) {
		return v, nil
	}
	if _, err := os.Stat(image); err != nil {
		if err := v.format(ctx, size); err != nil {
			return nil, err
		}
	}
	if err := run(ctx, "mount", "-o", "loop,relatime", image, at); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnsupported, err)
	}
	return v, nil
}

func (v *Volume) format(ctx context.Context, size int64) error {
	f, err := os.OpenFile(v.image, os.O_CREATE|os.O_WRONLY, 0o600)
	if err == nil {
		err = errors.Join(f.Truncate(size), f.Close())
	}
	if err == nil {
		err = run(ctx, "mkfs.ext4", "-q", "-F", "-m", "0", v.image)
	}
	if err != nil {
		return errors.Join(fmt.Errorf("%w: %w", ErrUnsupported, err), os.Remove(v.image))
	}
	return nil
}

// mounted reports whether something is mounted at a folder: it lies on another volume than what it is in.
func mounted(path string) bool {
	var at, above unix.Stat_t
	return unix.Stat(path, &at) == nil && unix.Stat(filepath.Dir(path), &above) == nil && at.Dev != above.Dev
}

// Unmount unmounts the volume. Its files stay.
func (v *Volume) Unmount(ctx context.Context) error { return run(ctx, "umount", v.Path) }

func run(ctx context.Context, name string, args ...string) error {
	out, err := exec.CommandContext(ctx, name, args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s: %w: %s", name, err, strings.TrimSpace(string(out)))
	}
	return nil
}
