package acl

import (
	"slices"

	"bridgespan/core/account"
)

// Scope says to what a grant applies.
type Scope string

const (
	Everything  Scope = "everything" // this folder and everything below
	ThisOnly    Scope = "this"       // this file or folder alone
	FoldersOnly Scope = "folders"    // this folder and the folders below
	FilesOnly   Scope = "files"      // the files below alone
	BelowOnly   Scope = "below"      // everything below, and not this folder
	OneLevel    Scope = "one-level"  // this folder and what lies directly in it
)

// Scopes are all scopes.
var Scopes = []Scope{Everything, ThisOnly, FoldersOnly, FilesOnly, BelowOnly, OneLevel}

// Flags are the flags of an entry with this scope on a folder.
func (s Scope) Flags() Flags {
	switch s {
	case Everything:
		return ObjectInherit | ContainerInherit
	case FoldersOnly:
		return ContainerInherit
	case FilesOnly:
		return ObjectInherit | InheritOnly
	case BelowOnly:
		return ObjectInherit | ContainerInherit | InheritOnly
	case OneLevel:
		return ObjectInherit | ContainerInherit | NoPropagate
	}
	return 0
}

// ScopeOf says to what an entry of a folder applies; "" when no scope says it.
func (e Entry) ScopeOf() Scope {
	for _, s := range Scopes {
		if s.Flags() == e.Flags&inheritance {
			return s
		}
	}
	return ""
}

// Grant sets what an account is granted (or denied) here: its explicit entries of the same
// kind and scope are replaced by one.
func (p Parts) Grant(kind EntryType, s account.SID, mask Mask, flags Flags) Parts {
	kept := slices.DeleteFunc(slices.Clone(p.Entries()), func(e Entry) bool {
		return e.Flags&Inherited == 0 && e.Type == kind && e.Account == s && e.Flags&inheritance == flags&inheritance
	})
	return p.WithEntries(Ordered(append(kept, Entry{Type: kind, Flags: flags & inheritance, Mask: mask, Account: s})))
}

// Revoke removes every explicit entry of an account.
func (p Parts) Revoke(s account.SID) Parts {
	return p.WithEntries(slices.DeleteFunc(slices.Clone(p.Entries()), func(e Entry) bool {
		return e.Flags&Inherited == 0 && e.Account == s
	}))
}

// Own makes an account the owner.
func (p Parts) Own(s account.SID) Parts {
	p.Owner = s
	return p
}
