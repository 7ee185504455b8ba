package folder

import (
	"context"
	"errors"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"

	"bridgespan/core/acl"
)

// keptXattr of a folder names the extended attribute in which descriptors are kept below it.
const keptXattr = "trusted.bspan.kept"

// adopt carries over what another [Keeping] has kept in this folder, such as that of an earlier version. It looks at all entries
// once; from then on, a descriptor that somebody leaves elsewhere counts for nothing.
func (t *Tree) adopt(ctx context.Context) error {
	if !administers() || !t.descriptors {
		return nil
	}
	top := int(t.top.Fd())
	if kept, err := readXattr(top, keptXattr); err != nil || string(kept) == t.keeping.descriptors {
		return err
	}
	err := fs.WalkDir(t.root.FS(), ".", func(name string, d fs.DirEntry, err error) error {
		if err == nil {
			err = ctx.Err()
		}
		if err != nil || !d.IsDir() && !d.Type().IsRegular() {
			return err
		}
		f, err := t.open(name, os.O_RDONLY|unix.O_NONBLOCK|unix.O_NOFOLLOW, 0)
		if errors.Is(err, fs.ErrNotExist) { // it was removed meanwhile
			return nil
		}
		if err != nil {
			return err
		}
		defer f.Close()
		return t.keeping.takeFrom(int(f.Fd()))
	})
	if err != nil {
		return err
	}
	return unix.Fsetxattr(top, keptXattr, []byte(t.keeping.descriptors), 0)
}

// takeFrom keeps what others have kept of an open entry, where this one has nothing of it.
func (k *Keeping) takeFrom(fd int) error {
	for _, other := range []*Keeping{Own, OfAnybody, OfSamba} {
		if other.descriptors == k.descriptors {
			continue
		}
		d, err := other.readDescriptor(fd)
		if err != nil || d.IsZero() {
			continue // what cannot be read was not counted before either
		}
		own, err := k.readDescriptor(fd)
		if err == nil && own == (acl.Descriptor{}) {
			err = k.writeDescriptor(fd, d)
		}
		if err == nil && other != OfSamba { // what is Samba's stays
			err = unix.Fremovexattr(fd, other.descriptors)
		}
		if err != nil {
			return err
		}
		if a := other.readAttributes(fd); a != 0 && k.readAttributes(fd) == 0 {
			return k.writeAttributes(fd, a)
		}
		return nil
	}
	return nil
}
