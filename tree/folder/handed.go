package folder

import (
	"errors"
	"os"
	"path"

	"golang.org/x/sys/unix"

	"bridgespan/core/acl"
)

// handing finds what folders hand down to entries that have no descriptor of
// their own, such as what a program of this host has made. The zero value has
// looked for nothing.
type handing struct {
	known       bool
	file, below acl.Descriptor // of files, and of folders
}

// to is what a folder hands down to an entry; nothing when no folder above has a
// descriptor.
func (h *handing) to(t *Tree, folder string, isFolder bool) (acl.Descriptor, error) {
	if !h.known {
		above, err := t.handsDown(folder)
		if err != nil {
			return above, err
		}
		if h.file, err = fromAbove(above, false); err != nil {
			return above, err
		}
		if h.below, err = fromAbove(above, true); err != nil {
			return above, err
		}
		h.known = true
	}
	if isFolder {
		return h.below, nil
	}
	return h.file, nil
}

// handsDown is the descriptor of a folder, or what it is handed down itself.
func (t *Tree) handsDown(name string) (acl.Descriptor, error) {
	f, err := t.open(name, os.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return acl.Descriptor{}, err
	}
	d, err := t.keeping.readDescriptor(int(f.Fd()))
	f.Close()
	if errors.Is(err, unix.EOPNOTSUPP) {
		return acl.Descriptor{}, nil
	}
	if err != nil || !d.IsZero() || name == "." {
		return d, err
	}
	if d, err = t.handsDown(path.Dir(name)); err != nil {
		return d, err
	}
	return fromAbove(d, true)
}

// fromAbove is what a folder's descriptor makes of one in it. It belongs to whom
// the folder belongs to: a host's own accounts say nothing here.
func fromAbove(above acl.Descriptor, folder bool) (acl.Descriptor, error) {
	if above.IsZero() {
		return above, nil
	}
	p := above.Parts()
	return acl.New(p, folder, p.Owner, p.Group).Descriptor()
}
