package folder

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"sync"

	"golang.org/x/sys/unix"

	"bridgespan/core/acl"
	"bridgespan/tree"
)

// Keeping is how a folder keeps of its entries what its file system cannot: their descriptors and attributes, in
// extended attributes.
type Keeping struct {
	descriptors, attributes string // names of the extended attributes
	descriptor              func(kept []byte) (acl.Descriptor, error)
	ofDescriptor            func(d acl.Descriptor) []byte
	// attribute and ofAttributes are about what was kept before, too, which may hold more.
	attribute    func(kept []byte) tree.Attributes
	ofAttributes func(before []byte, a tree.Attributes) []byte

	once  sync.Once
	names [][]byte // see listed
}

// listed are the names of the extended attributes that matter, as listxattr(2) writes them.
func (k *Keeping) listed() [][]byte {
	k.once.Do(func() {
		for _, name := range []string{k.descriptors, k.attributes, stubXattr} {
			k.names = append(k.names, append([]byte(name), 0))
		}
	})
	return k.names
}

var (
	// Own keeps binary descriptors, where nobody but the system's administrator can set them.
	Own = &Keeping{descriptors: "trusted.bspan.descriptor", attributes: ownAttributes, descriptor: acl.FromBinary, ofDescriptor: acl.Descriptor.Binary, attribute: fourBytes, ofAttributes: toFourBytes}
	// OfAnybody keeps them where anybody can set them who may write to the file. It is for processes without the
	// administrator's rights.
	OfAnybody = &Keeping{descriptors: "user.bspan.descriptor", attributes: ownAttributes, descriptor: acl.FromBinary, ofDescriptor: acl.Descriptor.Binary, attribute: fourBytes, ofAttributes: toFourBytes}
	// OfSamba keeps them as smbd does with the module acl_xattr. Mover and smbd then apply the same permissions to one
	// folder. smbd must ignore the system's own ACLs (acl_xattr:ignore system acls).
	OfSamba = &Keeping{descriptors: "security.NTACL", attributes: sambaAttributes, descriptor: fromSamba, ofDescriptor: toSamba, attribute: attributesFromSamba, ofAttributes: attributesToSamba}
)

const (
	ownAttributes   = "user.bspan.attributes"
	sambaAttributes = "user.DOSATTRIB"
)

// administers reports whether this process has the rights of the system's administrator.
var administers = sync.OnceValue(func() bool {
	header := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var data [2]unix.CapUserData
	return unix.Capget(&header, &data[0]) == nil && data[0].Effective&(1<<unix.CAP_SYS_ADMIN) != 0
})

// fourBytes reads attributes that are kept little-endian.
func fourBytes(kept []byte) tree.Attributes {
	if len(kept) != 4 {
		return 0
	}
	return tree.Attributes(binary.LittleEndian.Uint32(kept)) & tree.SettableAttributes
}

func toFourBytes(_ []byte, a tree.Attributes) []byte {
	return binary.LittleEndian.AppendUint32(nil, uint32(a))
}

// Samba keeps a descriptor as an xattr_NTACL (librpc/idl/xattr.idl) in NDR: a version, said twice, a pointer and, but for the
// first version, what it was made from; then a self-relative descriptor ([MS-DTYP] 2.4.6) whose offsets count from the
// beginning of all that.
const (
	sambaVersion = 3
	sambaHashes  = 64
	sambaAt      = 80 // where the descriptor begins in version 3
)

// Errors of what Samba keeps.
var (
	errSamba     = fmt.Errorf("%w: the permissions that Samba keeps have an unknown form", tree.ErrUnsupported)
	errSambaHash = fmt.Errorf("%w: Samba keeps permissions together with the system's own; let it ignore these (acl_xattr:ignore system acls = yes), and set them anew", tree.ErrUnsupported)
)

func fromSamba(kept []byte) (acl.Descriptor, error) {
	at, err := sambaDescriptorAt(kept)
	if err != nil {
		return acl.Descriptor{}, err
	}
	return acl.FromBinary(moveOffsets(kept[at:], -at))
}

// sambaDescriptorAt is where the descriptor begins in what Samba keeps.
func sambaDescriptorAt(kept []byte) (int, error) {
	if len(kept) < 12 || len(kept) > acl.MaxBinary {
		return 0, errSamba
	}
	at, hash := 0, [2]int{14, 14 + sambaHashes}
	switch binary.LittleEndian.Uint16(kept) {
	case 1:
		at, hash = 8, [2]int{}
	case 2:
		at, hash = 12+16, [2]int{12, 12 + 16}
	case 3:
		at = sambaAt
	case 4: // a name of what made it, a time, and another hash
		end := hash[1]
		for end < len(kept) && kept[end] != 0 {
			end++
		}
		at = aligned(end+1) + 8 + sambaHashes
	}
	if at == 0 || at+descriptorHead > len(kept) {
		return 0, errSamba
	}
	if slices.ContainsFunc(kept[hash[0]:hash[1]], func(b byte) bool { return b != 0 }) {
		return 0, errSambaHash
	}
	return at, nil
}

func aligned(at int) int { return (at + 3) &^ 3 }

// descriptorHead is how long the part of a descriptor is that says where its others are.
const descriptorHead = 20

// moveOffsets changes the offsets of a self-relative descriptor by so many bytes, in a copy. One that would come to lie
// before its beginning becomes one that leads nowhere.
func moveOffsets(d []byte, by int) []byte {
	moved := append([]byte(nil), d...)
	for at := 4; at < descriptorHead; at += 4 {
		if offset := binary.LittleEndian.Uint32(moved[at:]); offset != 0 { // else that part is absent
			binary.LittleEndian.PutUint32(moved[at:], offset+uint32(by))
		}
	}
	return moved
}

// toSamba keeps a descriptor that holds whatever the system's own permissions are: its hash is of no kind.
func toSamba(d acl.Descriptor) []byte {
	kept := make([]byte, sambaAt)
	for at, v := range map[int]uint16{0: sambaVersion, 2: sambaVersion, 6: 2, 8: 4, 10: 2} { // the pointers are 0x20000 and 0x20004
		binary.LittleEndian.PutUint16(kept[at:], v)
	}
	return append(kept, moveOffsets(d.Binary(), sambaAt)...)
}

// Samba keeps attributes as an xattr_DOSATTRIB in NDR: an empty text, a version, said twice, which of its values are valid, and the
// attributes; then times.
const (
	dosVersion       = 5
	dosValidAt       = 8
	dosAt            = 12
	dosLength        = 24
	dosHasAttributes = 1
	dosOldest        = 3
)

func dosKept(kept []byte) bool {
	if len(kept) < dosAt+4 || kept[0] != 0 {
		return false
	}
	v := binary.LittleEndian.Uint16(kept[2:])
	return v >= dosOldest && v <= dosVersion && binary.LittleEndian.Uint32(kept[dosValidAt:])&dosHasAttributes != 0
}

func attributesFromSamba(kept []byte) tree.Attributes {
	if !dosKept(kept) {
		return 0
	}
	return tree.Attributes(binary.LittleEndian.Uint32(kept[dosAt:])) & tree.SettableAttributes
}

func attributesToSamba(before []byte, a tree.Attributes) []byte {
	kept := append([]byte(nil), before...)
	if !dosKept(kept) {
		kept = make([]byte, dosLength)
		binary.LittleEndian.PutUint16(kept[2:], dosVersion)
		binary.LittleEndian.PutUint16(kept[4:], dosVersion)
		binary.LittleEndian.PutUint32(kept[dosValidAt:], dosHasAttributes)
	}
	others := binary.LittleEndian.Uint32(kept[dosAt:]) &^ uint32(tree.SettableAttributes)
	binary.LittleEndian.PutUint32(kept[dosAt:], others|uint32(a))
	return kept
}

// offline is the attribute of a file whose content takes a while to be read ([MS-FSCC] 2.6).
const offline tree.Attributes = 0x1000

// showStub lets clients of the file service beside this folder see that an open file is a stub.
func (k *Keeping) showStub(fd int) error {
	if k != OfSamba {
		return nil
	}
	before, err := readXattr(fd, k.attributes)
	if err != nil {
		return err
	}
	kept := attributesToSamba(before, attributesFromSamba(before))
	return unix.Fsetxattr(fd, k.attributes, setOffline(kept, true), 0)
}

// showWhole lets them see that it is none any more.
func showWhole(fd int) error {
	kept, err := readXattr(fd, sambaAttributes)
	if errors.Is(err, unix.EOPNOTSUPP) {
		return nil
	}
	if err != nil || !dosKept(kept) || tree.Attributes(binary.LittleEndian.Uint32(kept[dosAt:]))&offline == 0 {
		return err
	}
	return unix.Fsetxattr(fd, sambaAttributes, setOffline(kept, false), 0)
}

func setOffline(kept []byte, is bool) []byte {
	a := tree.Attributes(binary.LittleEndian.Uint32(kept[dosAt:])) &^ offline
	if is {
		a |= offline
	}
	binary.LittleEndian.PutUint32(kept[dosAt:], uint32(a))
	return kept
}
