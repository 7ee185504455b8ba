package folder

import (
	"context"
	"errors"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"
)

// keptXattr of a folder names the extended attribute that keeps descriptors below it.
const keptXattr = "trusted.bspan.kept"

// adopt carries over what another [Keeping] kept in this folder: that of an earlier version, or of another setting. It visits
// all entries once. From then on, descriptors in other attributes do not count.
func (t *Tree) adopt(ctx context.Context) error {
	if !administers() || !t.descriptors {
		return nil
	}
	top := int(t.top.Fd())
	before, err := readXattr(top, keptXattr)
	if err != nil || string(before) == t.keeping.descriptors {
		return err
	}
	sources := []*Keeping{Own, OfAnybody}
	if string(before) == OfSamba.descriptors {
		sources = []*Keeping{OfSamba}
	}
	err = fs.WalkDir(t.root.FS(), ".", func(name string, d fs.DirEntry, err error) error {
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
		return t.keeping.takeFrom(int(f.Fd()), sources)
	})
	if err != nil {
		return err
	}
	return unix.Fsetxattr(top, keptXattr, []byte(t.keeping.descriptors), 0)
}

// takeFrom copies descriptor and attributes of an open entry from the first source that has them. What this Keeping has
// already stays, even if it cannot be read.
func (k *Keeping) takeFrom(fd int, sources []*Keeping) error {
	for _, source := range sources {
		d, err := source.readDescriptor(fd)
		if source.descriptors == k.descriptors || err != nil || d.IsZero() {
			continue
		}
		if own, err := readXattr(fd, k.descriptors); err != nil || len(own) > 0 {
			return err
		}
		if err := k.writeDescriptor(fd, d); err != nil {
			return err
		}
		if a := source.readAttributes(fd); a != 0 && k.readAttributes(fd) == 0 {
			return k.writeAttributes(fd, a)
		}
		return nil
	}
	return nil
}
