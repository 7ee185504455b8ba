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
	"syscall"

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

// Like gives a folder the owner and the mode that another one had.
func Like(folder string, before os.FileInfo) error {
	st, ok := before.Sys().(*syscall.Stat_t)
	if !ok {
		return fmt.Errorf("%w: nobody tells the owner of %s", ErrUnsupported, folder)
	}
	return errors.Join(os.Chown(folder, int(st.Uid), int(st.Gid)), os.Chmod(folder, before.Mode().Perm()))
}

// Unmount unmounts the volume, and at once when nobody has files open there any more. Its files stay.
func (v *Volume) Unmount(ctx context.Context) error {
	if err := run(ctx, "umount", v.Path); err == nil {
		return nil
	}
	return run(ctx, "umount", "--lazy", v.Path)
}

// UnmountBelow unmounts what a start that was cut short has left mounted below a folder.
func UnmountBelow(ctx context.Context, dir string) error {
	real, err := filepath.EvalSymlinks(dir)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	text, bad := os.ReadFile("/proc/self/mounts")
	if err := errors.Join(err, bad); err != nil {
		return err
	}
	var failed []error
	for line := range strings.Lines(string(text)) {
		fields := strings.Fields(line)
		if len(fields) > 1 && strings.HasPrefix(fields[0], "/dev/loop") && strings.HasPrefix(fields[1], real+"/") {
			failed = append(failed, (&Volume{Path: fields[1]}).Unmount(ctx))
		}
	}
	return errors.Join(failed...)
}

func run(ctx context.Context, name string, args ...string) error {
	out, err := exec.CommandContext(ctx, name, args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s: %w: %s", name, err, strings.TrimSpace(string(out)))
	}
	return nil
}
