package folder

import (
	"errors"
	"os"
	"path"

	"golang.org/x/sys/unix"
)

// asOthers gives what is at a name the owner, group and mode of what is at its
// place to be, or else of the folder there, in a shared folder.
func (t *Tree) asOthers(name, place string) error {
	if !t.shared {
		return nil
	}
	f, err := t.open(name, os.O_RDONLY|unix.O_NONBLOCK|unix.O_NOFOLLOW, 0)
	if errors.Is(err, unix.ELOOP) { // a link has no mode
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	own, err := statOf(f)
	if err != nil {
		return err
	}
	like, err := t.lstat(place)
	if err != nil || like.Mode&unix.S_IFMT != own.Mode&unix.S_IFMT || like.Ino == own.Ino {
		if like, err = t.lstat(path.Dir(place)); err != nil {
			return err
		}
		if isFile(&own) {
			like.Mode &^= 0o111 // to go through a folder is not to run what is in it
		}
	}
	if like.Uid != own.Uid || like.Gid != own.Gid {
		if err := unix.Fchown(int(f.Fd()), int(like.Uid), int(like.Gid)); err != nil && !errors.Is(err, unix.EPERM) { // who is not root keeps it
			return err
		}
	}
	if mode := like.Mode & 0o777; mode != own.Mode&0o777 {
		return unix.Fchmod(int(f.Fd()), mode)
	}
	return nil
}
