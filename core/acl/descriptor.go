// Package acl holds what file servers say about permissions: security
// descriptors and the accounts they name.
//
// A [Descriptor] is a comparable value, so that equal permissions can be
// found, counted and stored once. It is kept in the one canonical layout of
// its published binary form ([MS-DTYP] 2.4.6), whatever layout a server sent.
package acl

import (
	"errors"
	"fmt"
	"strings"

	"github.com/cloudsoda/sddl"
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
func FromBinary(b []byte) (d Descriptor, err error) {
	if len(b) > MaxBinary {
		return Descriptor{}, fmt.Errorf("%w: %d bytes, at most %d are possible", ErrMalformed, len(b), MaxBinary)
	}
	defer recoverMalformed(&err)
	parsed, err := sddl.FromBinary(b)
	if err != nil {
		return Descriptor{}, fmt.Errorf("%w: %w", ErrMalformed, err)
	}
	return Descriptor{string(parsed.Binary())}, nil
}

// Parse reads the text form, SDDL ([MS-DTYP] 2.5.1).
func Parse(text string) (d Descriptor, err error) {
	defer recoverMalformed(&err)
	parsed, err := sddl.FromString(text)
	if err != nil {
		return Descriptor{}, fmt.Errorf("%w: %w", ErrMalformed, err)
	}
	return Descriptor{string(parsed.Binary())}, nil
}

// recoverMalformed turns a panic of the decoding library on hostile bytes into
// an ordinary error: a server must not be able to end the service.
func recoverMalformed(err *error) {
	if r := recover(); r != nil {
		*err = fmt.Errorf("%w: %v", ErrMalformed, r)
	}
}

// IsZero reports whether d says nothing.
func (d Descriptor) IsZero() bool { return d.binary == "" }

// Binary returns a fresh copy of the canonical self-relative form, or nil for the zero value.
func (d Descriptor) Binary() []byte {
	if d.IsZero() {
		return nil
	}
	return []byte(d.binary)
}

// String returns the text form, SDDL, or "" for the zero value.
func (d Descriptor) String() string {
	if d.IsZero() {
		return ""
	}
	parsed, err := sddl.FromBinary([]byte(d.binary))
	if err != nil {
		return ""
	}
	return parsed.String()
}

// WithoutSACL returns d without its list of audit entries, which only a holder
// of a special privilege may read or write.
func (d Descriptor) WithoutSACL() Descriptor {
	text := d.String()
	if i := strings.LastIndex(text, "S:"); i >= 0 && strings.Contains(text, "D:") && i > strings.Index(text, "D:") {
		if short, err := Parse(text[:i]); err == nil {
			return short
		}
	}
	return d
}
