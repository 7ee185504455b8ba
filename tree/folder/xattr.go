package folder

import (
	"bytes"
	"errors"
	"slices"
	"strconv"
	"sync/atomic"
	"unsafe"

	"golang.org/x/sys/unix"

	"bridgespan/core/acl"
	"bridgespan/tree"
)

// keepsNothing reports whether it is certain that an entry of an open folder has none of
// the extended attributes that matter here: their names take one call, opening the entry and asking for
// each takes four. Of a link it tells what the link itself has.
func (k *Keeping) keepsNothing(folder int, name string) bool {
	var names [512]byte
	n, err := listxattrAt(folder, name, names[:])
	if err != nil {
		return false
	}
	return !slices.ContainsFunc(k.listed(), func(ours []byte) bool { return bytes.Contains(names[:n], ours) })
}

// lacksListxattrat is set when the kernel does not know listxattrat(2), as those before
// Linux 6.13 do not.
var lacksListxattrat atomic.Bool

// listxattrAt lists the names of the extended attributes of an entry of an open folder,
// as llistxattr(2) does, which has to find its way there through /proc.
func listxattrAt(folder int, name string, names []byte) (int, error) {
	if !lacksListxattrat.Load() {
		p, err := unix.BytePtrFromString(name)
		if err != nil {
			return 0, err
		}
		n, _, e := unix.Syscall6(unix.SYS_LISTXATTRAT, uintptr(folder), uintptr(unsafe.Pointer(p)), unix.AT_SYMLINK_NOFOLLOW, uintptr(unsafe.Pointer(&names[0])), uintptr(len(names)), 0)
		if e == 0 {
			return int(n), nil
		}
		if e != unix.ENOSYS && e != unix.EPERM { // EPERM: a filter of system calls that does not know it either
			return 0, e
		}
		lacksListxattrat.Store(true)
	}
	return unix.Llistxattr(procPath(folder)+"/"+name, names)
}

func readXattr(fd int, name string) ([]byte, error) {
	var little [1024]byte // most descriptors, and all marks of stubs, are shorter
	buffer := little[:]
	for {
		n, err := unix.Fgetxattr(fd, name, buffer)
		switch {
		case err == nil:
			return append([]byte(nil), buffer[:n]...), nil
		case errors.Is(err, unix.ENODATA):
			return nil, nil
		case errors.Is(err, unix.ERANGE) && len(buffer) < acl.MaxBinary:
			buffer = make([]byte, acl.MaxBinary)
		default:
			return nil, err
		}
	}
}

func (k *Keeping) readDescriptor(fd int) (acl.Descriptor, error) {
	b, err := readXattr(fd, k.descriptors)
	if err != nil || len(b) == 0 {
		return acl.Descriptor{}, err
	}
	return k.descriptor(b)
}

func (k *Keeping) writeDescriptor(fd int, d acl.Descriptor) error {
	return unix.Fsetxattr(fd, k.descriptors, k.ofDescriptor(d), 0)
}

func (k *Keeping) readAttributes(fd int) tree.Attributes {
	b, err := readXattr(fd, k.attributes)
	if err != nil {
		return 0
	}
	return k.attribute(b)
}

func (k *Keeping) writeAttributes(fd int, a tree.Attributes) error {
	before, err := readXattr(fd, k.attributes)
	if err != nil {
		return err
	}
	return unix.Fsetxattr(fd, k.attributes, k.ofAttributes(before, a), 0)
}

// procPath is a path of this host that leads to an open file, whatever is at its name.
func procPath(fd int) string { return "/proc/self/fd/" + strconv.Itoa(fd) }

// futimens sets times through an open file ([utimensat(2)] with no path).
func futimens(fd int, times []unix.Timespec) error {
	if _, _, e := unix.Syscall6(unix.SYS_UTIMENSAT, uintptr(fd), 0, uintptr(unsafe.Pointer(&times[0])), 0, 0, 0); e != 0 {
		return e
	}
	return nil
}
