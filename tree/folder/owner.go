package folder

import (
	"errors"
	"os"
	"path"

	"golang.org/x/sys/unix"
)

// asOthers gives what is at a name, and all below it, the owner, group and mode of
// what is at its place to be, or else of the folder there, in a shared folder.
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
	own, err := statOf(int(f.Fd()))
	if err != nil {
		return err
	}
	like, err := t.like(&own, place)
	if err != nil {
		return err
	}
	if err := become(f, &own, &like); err != nil || isFile(&own) || name == place {
		return err
	}
	names, err := f.Readdirnames(-1)
	for _, below := range names {
		if err == nil {
			err = t.below(path.Join(name, below), &like)
		}
	}
	return err
}

// like is what something is to be like at its place.
func (t *Tree) like(own *unix.Stat_t, place string) (like unix.Stat_t, err error) {
	like, err = t.lstat(place)
	if err == nil && like.Mode&unix.S_IFMT == own.Mode&unix.S_IFMT && like.Ino != own.Ino {
		return like, nil
	}
	if like, err = t.lstat(path.Dir(place)); err == nil && isFile(own) {
		like.Mode &^= 0o111 // to go through a folder is not to run what is in it
	}
	return like, err
}

// below gives what is in a folder the owner, group and mode of it.
func (t *Tree) below(name string, like *unix.Stat_t) error {
	f, err := t.open(name, os.O_RDONLY|unix.O_NONBLOCK|unix.O_NOFOLLOW, 0)
	if errors.Is(err, unix.ELOOP) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	own, err := statOf(int(f.Fd()))
	if err != nil {
		return err
	}
	as := *like
	if isFile(&own) {
		as.Mode &^= 0o111
		return become(f, &own, &as)
	}
	names, err := f.Readdirnames(-1)
	for _, inner := range names {
		if err == nil {
			err = t.below(path.Join(name, inner), like)
		}
	}
	return errors.Join(err, become(f, &own, &as))
}

// become gives an open file another owner, group and mode.
func become(f *os.File, own, like *unix.Stat_t) error {
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
