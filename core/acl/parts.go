package acl

import (
	"encoding/binary"
	"fmt"
	"slices"

	"bridgespan/core/account"
)

// Control are the control flags of a descriptor ([MS-DTYP] 2.4.6).
type Control uint16

const (
	OwnerDefaulted          Control = 0x0001
	GroupDefaulted          Control = 0x0002
	DACLPresent             Control = 0x0004
	DACLDefaulted           Control = 0x0008
	SACLPresent             Control = 0x0010
	SACLDefaulted           Control = 0x0020
	DACLAutoInheritRequired Control = 0x0100
	SACLAutoInheritRequired Control = 0x0200
	DACLAutoInherited       Control = 0x0400
	SACLAutoInherited       Control = 0x0800
	DACLProtected           Control = 0x1000
	SACLProtected           Control = 0x2000
	selfRelative            Control = 0x8000
)

// EntryType is the kind of an entry ([MS-DTYP] 2.4.4.1).
type EntryType uint8

const (
	Allow       EntryType = 0
	Deny        EntryType = 1
	Audit       EntryType = 2
	Alarm       EntryType = 3
	AllowObject EntryType = 5
	DenyObject  EntryType = 6
	AuditObject EntryType = 7
	AlarmObject EntryType = 8
	Label       EntryType = 0x11
)

// hasObject reports whether entries of this type name kinds of objects before the account.
func (t EntryType) hasObject() bool {
	switch t {
	case AllowObject, DenyObject, AuditObject, AlarmObject, 0x0B, 0x0C, 0x0F, 0x10:
		return true
	}
	return false
}

// isKnown reports whether entries of this type hold a mask and an account.
func (t EntryType) isKnown() bool { return t != 4 && t <= 0x13 }

// Flags are the flags of an entry ([MS-DTYP] 2.4.4.1).
type Flags uint8

const (
	ObjectInherit    Flags = 0x01 // files inherit it
	ContainerInherit Flags = 0x02 // folders inherit it
	NoPropagate      Flags = 0x04 // those that inherit it do not hand it on
	InheritOnly      Flags = 0x08 // it does not count here
	Inherited        Flags = 0x10 // it came from above
	AuditSuccess     Flags = 0x40
	AuditFailure     Flags = 0x80

	inheritance = ObjectInherit | ContainerInherit | NoPropagate | InheritOnly
)

// Entry is one entry (ACE) of a list.
type Entry struct {
	Type    EntryType
	Flags   Flags
	Mask    Mask
	Account account.SID
	// Object is the part of object entries that names kinds of objects
	// ([MS-DTYP] 2.4.4.3), and Data what follows the account, byte for byte; of
	// a type that is not known, Data is all after the header.
	Object, Data string
}

// Effective reports whether the entry grants or denies at the object it is on.
func (e Entry) Effective() bool {
	return (e.Type == Allow || e.Type == Deny) && e.Flags&InheritOnly == 0
}

// List is an access control list.
type List struct {
	Revision uint8
	Entries  []Entry
}

// Parts is a descriptor taken apart.
type Parts struct {
	Control      Control
	Owner, Group account.SID
	// DACL says who may do what. Nil with DACLPresent set means that everybody
	// may do everything.
	DACL *List
	// SACL says what is audited.
	SACL *List
	// ResourceManager is the byte that programs may use as they like.
	ResourceManager uint8
}

const headerSize = 20

func malformed(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrMalformed, fmt.Sprintf(format, args...))
}

// readParts reads the self-relative form. It allocates no more than a small
// multiple of len(b).
func readParts(b []byte) (p Parts, err error) {
	if len(b) > MaxBinary {
		return p, malformed("%d bytes, at most %d are possible", len(b), MaxBinary)
	}
	if len(b) < headerSize {
		return p, malformed("%d bytes are too few", len(b))
	}
	if b[0] != 1 {
		return p, malformed("revision %d", b[0])
	}
	p.ResourceManager = b[1]
	p.Control = Control(binary.LittleEndian.Uint16(b[2:]))
	if p.Control&selfRelative == 0 {
		return p, malformed("not self-relative")
	}
	p.Control &^= selfRelative
	if p.Owner, err = readSIDAt(b, 4, "owner"); err != nil {
		return p, err
	}
	if p.Group, err = readSIDAt(b, 8, "group"); err != nil {
		return p, err
	}
	if p.SACL, err = readListAt(b, 12, p.Control&SACLPresent != 0, "audit list"); err != nil {
		return p, err
	}
	p.DACL, err = readListAt(b, 16, p.Control&DACLPresent != 0, "list")
	return p, err
}

func readSIDAt(b []byte, field int, what string) (account.SID, error) {
	at := binary.LittleEndian.Uint32(b[field:])
	if at == 0 {
		return account.SID{}, nil
	}
	if uint64(at) >= uint64(len(b)) {
		return account.SID{}, malformed("%s lies outside", what)
	}
	s, _, err := account.ReadSID(b[at:])
	if err != nil {
		return s, fmt.Errorf("%w: %s: %w", ErrMalformed, what, err)
	}
	return s, nil
}

func readListAt(b []byte, field int, present bool, what string) (*List, error) {
	at := binary.LittleEndian.Uint32(b[field:])
	if at == 0 || !present {
		return nil, nil
	}
	if uint64(at)+8 > uint64(len(b)) {
		return nil, malformed("%s lies outside", what)
	}
	return readList(b[at:], what)
}

func readList(b []byte, what string) (*List, error) {
	size, count := int(binary.LittleEndian.Uint16(b[2:])), int(binary.LittleEndian.Uint16(b[4:]))
	if size < 8 || size > len(b) {
		return nil, malformed("%s has %d bytes, and says %d", what, len(b), size)
	}
	l := &List{Revision: b[0]}
	rest := b[8:size]
	if count > 0 {
		l.Entries = make([]Entry, 0, min(count, len(rest)/4))
	}
	for i := range count {
		e, n, err := readEntry(rest)
		if err != nil {
			return nil, fmt.Errorf("%w (entry %d of the %s)", err, i+1, what)
		}
		l.Entries = append(l.Entries, e)
		rest = rest[n:]
	}
	return l, nil
}

func readEntry(b []byte) (Entry, int, error) {
	if len(b) < 4 {
		return Entry{}, 0, malformed("entry cut short")
	}
	e := Entry{Type: EntryType(b[0]), Flags: Flags(b[1])}
	size := int(binary.LittleEndian.Uint16(b[2:]))
	if size < 4 || size > len(b) {
		return e, 0, malformed("entry says %d bytes of %d", size, len(b))
	}
	body := b[4:size]
	if !e.Type.isKnown() {
		e.Data = string(body)
		return e, size, nil
	}
	if len(body) < 4 {
		return e, 0, malformed("entry without rights")
	}
	e.Mask = Mask(binary.LittleEndian.Uint32(body))
	body = body[4:]
	if e.Type.hasObject() {
		n := 4
		if len(body) >= 4 {
			n += 16 * (int(body[0]&1) + int(body[0]>>1&1))
		}
		if len(body) < n {
			return e, 0, malformed("object entry cut short")
		}
		e.Object, body = string(body[:n]), body[n:]
	}
	s, n, err := account.ReadSID(body)
	if err != nil {
		return e, 0, fmt.Errorf("%w: account of an entry: %w", ErrMalformed, err)
	}
	e.Account, e.Data = s, string(body[n:])
	return e, size, nil
}

// Descriptor puts p together. It returns an error when a list is larger than
// the binary form can hold.
func (p Parts) Descriptor() (Descriptor, error) {
	control := p.Control | selfRelative
	if p.DACL != nil {
		control |= DACLPresent
	}
	if p.SACL != nil {
		control |= SACLPresent
	}
	b := make([]byte, headerSize, headerSize+256)
	b[0], b[1] = 1, p.ResourceManager
	binary.LittleEndian.PutUint16(b[2:], uint16(control))
	for _, part := range []struct {
		field int
		sid   account.SID
	}{{4, p.Owner}, {8, p.Group}} {
		if !part.sid.IsZero() {
			binary.LittleEndian.PutUint32(b[part.field:], uint32(len(b)))
			b = part.sid.AppendBinary(b)
		}
	}
	var err error
	if b, err = appendList(b, 12, p.SACL, "audit list"); err != nil {
		return Descriptor{}, err
	}
	if b, err = appendList(b, 16, p.DACL, "list"); err != nil {
		return Descriptor{}, err
	}
	return Descriptor{string(b)}, nil
}

// ErrTooLarge: a list of more bytes than its 16-bit size can say.
var ErrTooLarge = fmt.Errorf("%w: too many entries", ErrMalformed)

func appendList(b []byte, field int, l *List, what string) ([]byte, error) {
	if l == nil {
		return b, nil
	}
	start := len(b)
	binary.LittleEndian.PutUint32(b[field:], uint32(start))
	b = append(b, l.Revision, 0, 0, 0, 0, 0, 0, 0)
	for _, e := range l.Entries {
		at := len(b)
		b = append(b, byte(e.Type), byte(e.Flags), 0, 0)
		if e.Type.isKnown() {
			b = binary.LittleEndian.AppendUint32(b, uint32(e.Mask))
			b = append(b, e.Object...)
			b = e.Account.AppendBinary(b)
		}
		b = append(b, e.Data...)
		size := len(b) - at
		if size > 0xFFFF {
			return nil, fmt.Errorf("%w in the %s", ErrTooLarge, what)
		}
		binary.LittleEndian.PutUint16(b[at+2:], uint16(size))
	}
	size := len(b) - start
	if size > 0xFFFF {
		return nil, fmt.Errorf("%w: the %s has %d and needs %d bytes, at most 65535 are possible", ErrTooLarge, what, len(l.Entries), size)
	}
	binary.LittleEndian.PutUint16(b[start+2:], uint16(size))
	binary.LittleEndian.PutUint16(b[start+4:], uint16(len(l.Entries)))
	return b, nil
}

// Entries are the entries that say who may do what.
func (p Parts) Entries() []Entry {
	if p.DACL == nil {
		return nil
	}
	return p.DACL.Entries
}

// Open reports whether everybody may do everything, since there is no list.
func (p Parts) Open() bool { return p.DACL == nil }

// Protected reports whether nothing is inherited from above.
func (p Parts) Protected() bool { return p.Control&DACLProtected != 0 }

// WithEntries returns p with other entries; p itself stays as it is.
func (p Parts) WithEntries(entries []Entry) Parts {
	revision := uint8(2)
	if p.DACL != nil {
		revision = p.DACL.Revision
	}
	p.DACL = &List{Revision: revision, Entries: entries}
	p.Control |= DACLPresent
	return p
}

// Accounts are the owner and everybody whom an entry names, once each, in order.
func (p Parts) Accounts() []account.SID {
	var found []account.SID
	add := func(s account.SID) {
		if !s.IsZero() && !slices.Contains(found, s) {
			found = append(found, s)
		}
	}
	add(p.Owner)
	for _, e := range p.Entries() {
		add(e.Account)
	}
	return found
}
