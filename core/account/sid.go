// Package account is about the people and groups that permissions name.
//
// A [SID] is a comparable value: the number by which servers know an account
// ([MS-DTYP] 2.4.2). [Describe] says what such a number tells about where the
// account lives, and [Token] is the whole set of numbers under which one person
// acts. Nothing here asks a server: what a server says is handed in.
package account

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// SID is a security identifier. The zero value names nobody.
type SID struct {
	// binary is the packet form ([MS-DTYP] 2.4.2.2); a string makes it comparable.
	binary string
}

// MaxSubs is how many parts may follow the authority ([MS-DTYP] 2.4.2).
const MaxSubs = 15

// ErrMalformed is wrapped by every error about bytes or text that are not a SID.
var ErrMalformed = errors.New("malformed SID")

// MakeSID makes a SID of an authority (48 bits) and the parts after it, at most MaxSubs.
func MakeSID(authority uint64, subs ...uint32) SID {
	if len(subs) > MaxSubs || authority >= 1<<48 {
		return SID{}
	}
	b := make([]byte, 8, 8+4*len(subs))
	binary.BigEndian.PutUint64(b, authority)
	b[0], b[1] = 1, byte(len(subs))
	for _, sub := range subs {
		b = binary.LittleEndian.AppendUint32(b, sub)
	}
	return SID{string(b)}
}

// ReadSID reads the packet form at the start of b, and returns its length in bytes.
func ReadSID(b []byte) (SID, int, error) {
	if len(b) < 8 {
		return SID{}, 0, fmt.Errorf("%w: %d bytes are too few", ErrMalformed, len(b))
	}
	n := 8 + 4*int(b[1])
	switch {
	case b[0] != 1:
		return SID{}, 0, fmt.Errorf("%w: revision %d", ErrMalformed, b[0])
	case b[1] > MaxSubs:
		return SID{}, 0, fmt.Errorf("%w: %d parts, at most %d are possible", ErrMalformed, b[1], MaxSubs)
	case len(b) < n:
		return SID{}, 0, fmt.Errorf("%w: cut short", ErrMalformed)
	}
	return SID{string(b[:n])}, n, nil
}

// ParseSID reads the text form, such as S-1-5-21-1-2-3-1101 ([MS-DTYP] 2.4.2.1).
func ParseSID(text string) (SID, error) {
	parts := strings.Split(text, "-")
	if len(parts) < 3 || !strings.EqualFold(parts[0], "S") || parts[1] != "1" {
		return SID{}, fmt.Errorf("%w: %q does not read S-1-authority-part-…", ErrMalformed, text)
	}
	authority, err := parseAuthority(parts[2])
	if err != nil {
		return SID{}, fmt.Errorf("%w: %q has no valid authority", ErrMalformed, text)
	}
	if len(parts)-3 > MaxSubs {
		return SID{}, fmt.Errorf("%w: %q has more than %d parts", ErrMalformed, text, MaxSubs)
	}
	subs := make([]uint32, 0, MaxSubs)
	for _, part := range parts[3:] {
		n, err := strconv.ParseUint(part, 10, 32)
		if err != nil {
			return SID{}, fmt.Errorf("%w: %q is not a part of one", ErrMalformed, part)
		}
		subs = append(subs, uint32(n))
	}
	return MakeSID(authority, subs...), nil
}

// parseAuthority reads an authority; large ones are written in hexadecimal.
func parseAuthority(text string) (uint64, error) {
	if hex, ok := strings.CutPrefix(strings.ToLower(text), "0x"); ok {
		return strconv.ParseUint(hex, 16, 48)
	}
	return strconv.ParseUint(text, 10, 48)
}

// MustSID is ParseSID for constants: it panics on malformed text.
func MustSID(text string) SID {
	s, err := ParseSID(text)
	if err != nil {
		panic(err)
	}
	return s
}

// IsZero reports whether s names nobody.
func (s SID) IsZero() bool { return s.binary == "" }

// Binary returns a fresh copy of the packet form, nil for the zero value.
func (s SID) Binary() []byte {
	if s.IsZero() {
		return nil
	}
	return []byte(s.binary)
}

// AppendBinary appends the packet form to b.
func (s SID) AppendBinary(b []byte) []byte { return append(b, s.binary...) }

// Len is the length of the packet form in bytes.
func (s SID) Len() int { return len(s.binary) }

// Authority is the first number.
func (s SID) Authority() uint64 {
	var b [8]byte
	copy(b[2:], s.binary[min(2, len(s.binary)):min(8, len(s.binary))])
	return binary.BigEndian.Uint64(b[:])
}

// Subs are the parts after the authority.
func (s SID) Subs() []uint32 {
	var subs []uint32
	for i := 8; i+4 <= len(s.binary); i += 4 {
		subs = append(subs, binary.LittleEndian.Uint32([]byte(s.binary[i:i+4])))
	}
	return subs
}

// Relative is the last part, by which the account is known within its domain or machine.
func (s SID) Relative() (uint32, bool) {
	if len(s.binary) < 12 {
		return 0, false
	}
	return binary.LittleEndian.Uint32([]byte(s.binary[len(s.binary)-4:])), true
}

// Parent is s without its last part: the domain or machine of an account.
func (s SID) Parent() SID {
	if len(s.binary) < 12 {
		return SID{}
	}
	b := []byte(s.binary[:len(s.binary)-4])
	b[1]--
	return SID{string(b)}
}

// Child is s with one more part; the zero value when there is no room.
func (s SID) Child(relative uint32) SID {
	if s.IsZero() || s.binary[1] >= MaxSubs {
		return SID{}
	}
	b := binary.LittleEndian.AppendUint32([]byte(s.binary), relative)
	b[1]++
	return SID{string(b)}
}

// In reports whether s is an account of the domain or machine given.
func (s SID) In(domain SID) bool {
	return !domain.IsZero() && len(s.binary) == len(domain.binary)+4 && s.Parent() == domain
}

// String returns the text form, or "" for the zero value.
func (s SID) String() string {
	if s.IsZero() {
		return ""
	}
	var b strings.Builder
	b.WriteString("S-1-")
	if a := s.Authority(); a >= 1<<32 {
		fmt.Fprintf(&b, "0x%012x", a)
	} else {
		b.WriteString(strconv.FormatUint(a, 10))
	}
	for _, sub := range s.Subs() {
		b.WriteByte('-')
		b.WriteString(strconv.FormatUint(uint64(sub), 10))
	}
	return b.String()
}

// MarshalText and UnmarshalText let a SID be part of a JSON document.
func (s SID) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

func (s *SID) UnmarshalText(text []byte) error {
	if len(text) == 0 {
		*s = SID{}
		return nil
	}
	parsed, err := ParseSID(string(text))
	if err == nil {
		*s = parsed
	}
	return err
}
