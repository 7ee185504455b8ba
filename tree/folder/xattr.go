package folder

import (
	"encoding/binary"
	"errors"
	"os"

	"golang.org/x/sys/unix"

	"bridgespan/core/acl"
	"bridgespan/tree"
)

// The extended attributes in which a folder keeps what its file system cannot:
// a binary security descriptor, and four bytes of attributes, little-endian.
const (
	descriptorXattr = "user.bspan.descriptor"
	attributesXattr = "user.bspan.attributes"
)

func readXattr(f *os.File, name string) ([]byte, error) {
	buffer := make([]byte, 1024)
	for {
		n, err := unix.Fgetxattr(int(f.Fd()), name, buffer)
		switch {
		case err == nil:
			return buffer[:n], nil
		case errors.Is(err, unix.ENODATA):
			return nil, nil
		case errors.Is(err, unix.ERANGE) && len(buffer) < acl.MaxBinary:
			buffer = make([]byte, acl.MaxBinary)
		default:
			return nil, err
		}
	}
}

func readDescriptor(f *os.File) (acl.Descriptor, error) {
	b, err := readXattr(f, descriptorXattr)
	if err != nil || len(b) == 0 {
		return acl.Descriptor{}, err
	}
	return acl.FromBinary(b)
}

func writeDescriptor(f *os.File, d acl.Descriptor) error {
	return unix.Fsetxattr(int(f.Fd()), descriptorXattr, d.Binary(), 0)
}

func readAttributes(f *os.File) tree.Attributes {
	b, err := readXattr(f, attributesXattr)
	if err != nil || len(b) != 4 {
		return 0
	}
	return tree.Attributes(binary.LittleEndian.Uint32(b)) & tree.SettableAttributes
}

func writeAttributes(f *os.File, a tree.Attributes) error {
	return unix.Fsetxattr(int(f.Fd()), attributesXattr, binary.LittleEndian.AppendUint32(nil, uint32(a)), 0)
}
