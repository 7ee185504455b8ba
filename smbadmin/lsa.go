package smbadmin

import (
	"context"
	"strings"

	"bridgespan/core/account"
	"bridgespan/smbadmin/internal/ndr"
	"bridgespan/smbadmin/internal/rpc"
)

var localAuthority = rpc.Interface{Pipe: "lsarpc", Major: 0, UUID: uuid(0x12345778, 0x1234, 0xabcd, 0xef, 0x00, 0x01, 0x23, 0x45, 0x67, 0x89, 0xab)}

// Numbers of the procedures ([MS-LSAD] 3.1.4, [MS-LSAT] 3.1.4).
const (
	callLsaClose       = 0
	callLsaQuery       = 7
	callLsaOpen        = 44
	callLsaLookupSIDs  = 57
	callLsaLookupNames = 68
)

// mostRights asks for whatever the caller is allowed.
const mostRights = 0x02000000

// Named is an account with its name, as one server knows it.
type Named struct {
	SID   account.SID
	Name  string
	Realm string // domain or machine, as the server calls it
	Kind  account.Kind
}

// Full is the name with its realm.
func (n Named) Full() string {
	if n.Realm == "" {
		return n.Name
	}
	return n.Realm + `\` + n.Name
}

// handle is what a server gives to refer to something of its own.
type handle [20]byte

func readHandle(r *ndr.Reader) (h handle) {
	copy(h[:], r.Raw32(len(h)))
	return h
}

// withPolicy opens a server's policy for a few calls.
func (a *Admin) withPolicy(ctx context.Context, do func(c *conversation, policy handle) error) error {
	return a.talk(ctx, localAuthority, func(c *conversation) error {
		var policy handle
		status, err := c.call(callLsaOpen, func(w *ndr.Writer) {
			w.Pointer(nil)
			w.U32(24) // attributes: none
			for range 5 {
				w.U32(0)
			}
			w.U32(mostRights)
		}, func(r *ndr.Reader) { policy = readHandle(r) })
		if err := check("open the policy", status, err); err != nil {
			return err
		}
		defer c.close(callLsaClose, policy)
		return do(c, policy)
	})
}

func (c *conversation) close(procedure uint16, h handle) {
	_, _ = c.call(procedure, func(w *ndr.Writer) { w.Raw(h[:]) }, nil)
}

// Realms are the machine itself, and the domain that it belongs to, if any.
func (a *Admin) Realms(ctx context.Context) (realms []account.Realm, err error) {
	return realms, a.withPolicy(ctx, func(c *conversation, policy handle) error {
		for level, domain := range map[uint16]bool{5: false, 3: true} {
			var realm account.Realm
			status, err := c.call(callLsaQuery, func(w *ndr.Writer) {
				w.Raw(policy[:])
				w.U16(level)
			}, func(r *ndr.Reader) { realm = readRealm(r, level) })
			if err := check("ask for the domain", status, err); err != nil {
				return err
			}
			realm.Domain = domain
			// A machine that stands alone calls its workgroup a domain without a number.
			if !realm.SID.IsZero() && !(domain && len(realms) > 0 && realms[0].SID == realm.SID) {
				realms = append(realms, realm)
			}
		}
		return nil
	})
}

func readRealm(r *ndr.Reader, level uint16) (realm account.Realm) {
	if !r.Pointer() {
		return realm
	}
	if got := r.U16(); got != level {
		r.Fail("level %d, and %d was asked for", got, level)
		return realm
	}
	name := r.Name()
	sid := r.Pointer()
	realm.Name = name()
	if sid {
		realm.SID = r.SID()
	}
	return realm
}

// kinds are what a server calls accounts ([MS-SAMR] 2.2.2.3, SID_NAME_USE).
func kindOf(use uint16) account.Kind {
	switch use {
	case 1, 9: // user, computer
		return account.User
	case 2:
		return account.Group
	case 3:
		return account.Place
	case 4:
		return account.LocalGroup
	case 5:
		return account.Special
	}
	return account.Unresolved
}

// readDomains reads the domains that an answer refers to.
func readDomains(r *ndr.Reader) (names []string, sids []account.SID) {
	if !r.Pointer() {
		return nil, nil
	}
	r.U32()
	has := r.Pointer()
	r.U32()
	if !has {
		return nil, nil
	}
	n := r.Count(12)
	contents, pointers := make([]func() string, n), make([]bool, n)
	for i := range n {
		contents[i], pointers[i] = r.Name(), r.Pointer()
	}
	names, sids = make([]string, n), make([]account.SID, n)
	for i := range n {
		names[i] = contents[i]()
		if pointers[i] {
			sids[i] = r.SID()
		}
	}
	return names, sids
}

// lookupBatch is how many accounts are asked for at once: servers bound it too
// ([MS-LSAT] 3.1.4.10).
const lookupBatch = 500

// NamesOf names accounts, in the order asked for. Those that the server cannot
// name come back as Unresolved with the SID alone.
func (a *Admin) NamesOf(ctx context.Context, sids []account.SID) (named []Named, err error) {
	if len(sids) == 0 {
		return nil, nil
	}
	return named, a.withPolicy(ctx, func(c *conversation, policy handle) error {
		named = nil
		for rest := sids; len(rest) > 0; {
			n := min(len(rest), lookupBatch)
			batch, err := c.namesOf(policy, rest[:n])
			if err != nil {
				return err
			}
			named, rest = append(named, batch...), rest[n:]
		}
		return nil
	})
}

func (c *conversation) namesOf(policy handle, sids []account.SID) (named []Named, err error) {
	status, err := c.call(callLsaLookupSIDs, func(w *ndr.Writer) {
		w.Raw(policy[:])
		w.U32(uint32(len(sids)))
		w.Inside(func() {
			w.U32(uint32(len(sids)))
			for _, s := range sids {
				w.Inside(func() { w.SID(s) })
			}
		})
		w.Flush()
		w.U32(0)
		w.U32(0)
		w.U16(1) // ask everybody whom the server trusts
		w.U32(0)
		w.U32(0)
		w.U32(2)
	}, func(r *ndr.Reader) { named = readNames(r, sids) })
	if status == statusSomeNotMapped || status == statusNoneMapped {
		status = 0
	}
	if err := check("name accounts", status, err); err != nil {
		return nil, err
	}
	if named == nil { // none is known, and the server sends an empty list
		for _, s := range sids {
			named = append(named, Named{SID: s, Kind: account.Unresolved})
		}
	}
	return named, nil
}

func readNames(r *ndr.Reader, sids []account.SID) []Named {
	domains, _ := readDomains(r)
	said := r.U32()
	if !r.Pointer() {
		return nil
	}
	n := r.Count(16)
	if int(said) != n || n != len(sids) {
		r.Fail("%d names for %d accounts", n, len(sids))
		return nil
	}
	named, contents, places := make([]Named, n), make([]func() string, n), make([]uint32, n)
	for i := range n {
		use := r.U32() // an enumeration of 16 bits, padded
		contents[i], places[i] = r.Name(), r.U32()
		r.U32()
		named[i] = Named{SID: sids[i], Kind: kindOf(uint16(use))}
	}
	for i := range named {
		name := contents[i]()
		if named[i].Kind == account.Unresolved {
			continue // servers repeat the number as the name
		}
		named[i].Name = name
		if int64(places[i]) < int64(len(domains)) {
			named[i].Realm = domains[places[i]]
		}
		if named[i].Kind == account.Place || named[i].Kind == account.Special || strings.EqualFold(named[i].Realm, "BUILTIN") {
			named[i].Realm = ""
		}
	}
	return named
}

// SIDsOf finds accounts by name, in the order asked for: "name", "realm\name"
// or "name@realm". Those that the server does not know come back as Unresolved
// with the name alone.
func (a *Admin) SIDsOf(ctx context.Context, names []string) (named []Named, err error) {
	if len(names) == 0 {
		return nil, nil
	}
	return named, a.withPolicy(ctx, func(c *conversation, policy handle) error {
		named = nil
		for rest := names; len(rest) > 0; {
			n := min(len(rest), lookupBatch)
			batch, err := c.sidsOf(policy, rest[:n])
			if err != nil {
				return err
			}
			named, rest = append(named, batch...), rest[n:]
		}
		return nil
	})
}

func (c *conversation) sidsOf(policy handle, names []string) (named []Named, err error) {
	status, err := c.call(callLsaLookupNames, func(w *ndr.Writer) {
		w.Raw(policy[:])
		w.U32(uint32(len(names)))
		w.U32(uint32(len(names)))
		for _, name := range names {
			w.Name(name)
		}
		w.Flush()
		w.U32(0)
		w.U32(0)
		w.U16(1)
		w.U32(0)
		w.U32(0)
		w.U32(2)
	}, func(r *ndr.Reader) { named = readSIDs(r, names) })
	if status == statusSomeNotMapped || status == statusNoneMapped {
		status = 0
	}
	if err := check("find accounts", status, err); err != nil {
		return nil, err
	}
	if named == nil {
		for _, name := range names {
			named = append(named, Named{Name: name, Kind: account.Unresolved})
		}
	}
	return named, nil
}

func readSIDs(r *ndr.Reader, names []string) []Named {
	domains, _ := readDomains(r)
	said := r.U32()
	if !r.Pointer() {
		return nil
	}
	n := r.Count(16)
	if int(said) != n || n != len(names) {
		r.Fail("%d accounts for %d names", n, len(names))
		return nil
	}
	named, pointers, places := make([]Named, n), make([]bool, n), make([]uint32, n)
	for i := range n {
		named[i] = Named{Name: names[i], Kind: kindOf(uint16(r.U32()))}
		pointers[i], places[i] = r.Pointer(), r.U32()
		r.U32()
	}
	for i := range named {
		if pointers[i] {
			named[i].SID = r.SID()
		}
		// An unknown name comes with a SID that names nobody.
		if named[i].Kind == account.Unresolved {
			named[i].SID = account.SID{}
		} else if int64(places[i]) < int64(len(domains)) {
			named[i].Realm = domains[places[i]]
		}
	}
	return named
}
