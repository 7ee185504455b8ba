package smbadmin

import (
	"encoding/hex"
	"testing"

	"bridgespan/core/account"
	"bridgespan/smbadmin/internal/ndr"
)

// decoders are all readers of what servers send, by name.
var decoders = map[string]func(*ndr.Reader){
	"shares, all about them": func(r *ndr.Reader) { readContainer(r, 502, readShare502) },
	"shares":                 func(r *ndr.Reader) { readContainer(r, 1, readShare1) },
	"sessions":               func(r *ndr.Reader) { readContainer(r, 1, readSessions) },
	"open files":             func(r *ndr.Reader) { readContainer(r, 3, readOpenFiles) },
	"realm":                  func(r *ndr.Reader) { readRealm(r, 5) },
	"names":                  func(r *ndr.Reader) { readNames(r, []account.SID{account.Everyone, account.Users}) },
	"accounts":               func(r *ndr.Reader) { readSIDs(r, []string{"a", "b"}) },
	"relatives":              func(r *ndr.Reader) { readRelatives(r) },
	"display":                func(r *ndr.Reader) { readDisplay(r, func(LocalUser, uint32) {}) },
	"members":                func(r *ndr.Reader) { readMembers(r) },
	"flags":                  func(r *ndr.Reader) { readFlags(r) },
	"value":                  func(r *ndr.Reader) { readValue(r) },
	"descriptor":             func(r *ndr.Reader) { readDescriptor(r) },
}

// No answer, however broken, makes a decoder panic, hang, or allocate more
// than a small multiple of what arrived.
func FuzzDecoders(f *testing.F) {
	for _, seed := range []string{
		// one share at level 1 and the status
		"01000000010000000400020001000000080002000100000000020200000000000402020002000000000000000200000061000000010000000000000001000000000000000100000000000000",
		"0400020001000000080002000100000001000000010000000c000200", "ffffffffffffffffffffffffffffffff",
	} {
		b, err := hex.DecodeString(seed)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		for name, decode := range decoders {
			allocated := testing.AllocsPerRun(1, func() { decode(ndr.NewReader(b)) })
			if limit := float64(64 + 8*len(b)); allocated > limit {
				t.Errorf("%s: %d bytes made %v allocations", name, len(b), allocated)
			}
		}
	})
}

// Lengths that cannot be true are refused before anything is allocated for them.
func TestLyingLengths(t *testing.T) {
	lie := make([]byte, 64)
	for i := range lie {
		lie[i] = 0xff
	}
	for name, decode := range decoders {
		r := ndr.NewReader(lie)
		if decode(r); r.Err() == nil {
			t.Errorf("%s: believes that 4294967295 of them are in %d bytes", name, len(lie))
		}
	}
}
