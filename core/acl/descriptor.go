// Package acl holds what file servers say about permissions: security
// descriptors, what they grant to whom and why, what new files inherit, and
// how two of them differ.
//
// A [Descriptor] is a comparable value, so that equal permissions can be
// found, counted and stored once. It is kept in one canonical layout of its
// published binary form ([MS-DTYP] 2.4.6), whatever layout a server sent.
// [Parts] is the same taken apart: to be looked at, changed and put together
// again with [Parts.Descriptor].
package acl

import (
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
)

// Descriptor is a security descriptor: owner, group, ordered entries and
// control flags. The zero value says that nothing is known.
type Descriptor struct {
	// binary is the canonical self-relative form; a string makes it comparable.
	binary string
}

// MaxBinary is the largest binary descriptor accepted, in bytes: the most that
// the 16-bit sizes of its two lists and its two SIDs can describe.
const MaxBinary = 2*65535 + 2*68 + 20

// ErrMalformed is wrapped by every error about bytes or text that are not a descriptor.
var ErrMalformed = errors.New("malformed security descriptor")

// FromBinary reads the self-relative binary form ([MS-DTYP] 2.4.6).
// It does not retain b.
func FromBinary(b []byte) (Descriptor, error) {
	p, err := readParts(b)
	if err != nil {
		return Descriptor{}, err
	}
	return p.Descriptor()
}

// Parse reads the text form, SDDL ([MS-DTYP] 2.5.1). Its errors are
// *SyntaxError and say where. It also reads what String writes for the rare
// descriptors that the text form cannot hold.
func Parse(text string) (Descriptor, error) {
	if raw, ok := strings.CutPrefix(text, opaquePrefix); ok {
		b, err := hex.DecodeString(raw)
		if err != nil {
			return Descriptor{}, fmt.Errorf("%w: %w", ErrMalformed, err)
		}
		return FromBinary(b)
	}
	p, err := ParseParts(text)
	if err != nil {
		return Descriptor{}, err
	}
	return p.Descriptor()
}

// opaquePrefix begins the text of a descriptor that SDDL cannot hold.
const opaquePrefix = "hex:"

// IsZero reports whether d says nothing.
func (d Descriptor) IsZero() bool { return d.binary == "" }

// Binary returns a fresh copy of the canonical self-relative form, or nil for the zero value.
func (d Descriptor) Binary() []byte {
	if d.IsZero() {
		return nil
	}
	return []byte(d.binary)
}

// Parts takes d apart. The zero value gives zero Parts.
func (d Descriptor) Parts() Parts {
	if d.IsZero() {
		return Parts{}
	}
	p, err := readParts([]byte(d.binary))
	if err != nil { // made by Parts.Descriptor alone
		panic(err)
	}
	return p
}

// String returns the text form, SDDL, or "" for the zero value. The few
// descriptors that SDDL cannot hold (conditions, server-defined entries) come
// as "hex:" and their bytes.
func (d Descriptor) String() string {
	if d.IsZero() {
		return ""
	}
	if text, ok := d.Parts().text(); ok {
		return text
	}
	return opaquePrefix + hex.EncodeToString([]byte(d.binary))
}

// MarshalText and UnmarshalText let a descriptor be part of a JSON document.
func (d Descriptor) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

func (d *Descriptor) UnmarshalText(text []byte) error {
	if len(text) == 0 {
		*d = Descriptor{}
		return nil
	}
	parsed, err := Parse(string(text))
	if err == nil {
		*d = parsed
	}
	return err
}

// WithoutSACL returns d without its list of audit entries, which only a holder
// of a special privilege may read or write.
func (d Descriptor) WithoutSACL() Descriptor {
	if d.IsZero() {
		return d
	}
	p := d.Parts()
	p.SACL = nil
	p.Control &^= SACLPresent | SACLDefaulted | SACLAutoInherited | SACLAutoInheritRequired | SACLProtected
	short, err := p.Descriptor()
	if err != nil { // shorter than what it came from
		panic(err)
	}
	return short
}
