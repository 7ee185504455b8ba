package folder

import (
	"context"
	"os"

	"golang.org/x/sys/unix"
)

// Protect gives a folder to who runs this program, and lets nobody else in.
func (t *Tree) Protect(ctx context.Context, name string) error {
	if err := begin(ctx, "protect", name); err != nil {
		return err
	}
	dir, err := t.open(name, os.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW, 0)
	if err != nil {
		return classify("protect", name, err)
	}
	defer dir.Close()
	st, err := statOf(int(dir.Fd()))
	if err == nil && (int(st.Uid) != os.Geteuid() || int(st.Gid) != os.Getegid()) {
		err = dir.Chown(os.Geteuid(), os.Getegid())
	}
	if err == nil && st.Mode&0o7777 != 0o700 {
		err = dir.Chmod(0o700)
	}
	return classify("protect", name, err)
}
