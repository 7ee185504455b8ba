package account

import (
	"iter"
	"maps"
	"slices"
	"strings"
)

// Via says how a token came to hold a group: through which of its accounts.
// The zero SID stands for the sign-in itself.
type Via map[SID]SID

// Token is the set of accounts under which one person acts at one server: the
// person, every group however nested, and what everybody is who signed in.
type Token struct {
	User SID
	// via has every account of the token.
	via Via
	// Privileges of the person at the server, which pass by some permissions.
	Privileges Privileges
}

// Privileges are rights on a server that no descriptor names ([MS-LSAD] 3.1.1.2.1).
type Privileges struct {
	TakeOwnership bool `json:"takeOwnership"` // of anything
	Backup        bool `json:"backup"`        // read anything, when the program asks for it
	Restore       bool `json:"restore"`       // write anything, when the program asks for it
}

// NewToken makes the token of somebody who signs in over the network: the
// person, Everyone, Authenticated Users and Network; Add adds the groups, of
// which there will be about so many.
func NewToken(user SID, groups int) *Token {
	t := &Token{User: user, via: make(Via, groups+4)}
	for _, s := range []SID{user, Everyone, AuthenticatedUsers, Network} {
		t.via[s] = SID{}
	}
	return t
}

// Bare makes the token of one account alone, as it is judged by itself.
func Bare(s SID) *Token { return &Token{User: s, via: Via{s: SID{}}} }

// Add adds a group that through belongs to, and reports whether it is new.
func (t *Token) Add(group, through SID) bool {
	if _, known := t.via[group]; known || group.IsZero() {
		return false
	}
	t.via[group] = through
	return true
}

// Has reports whether the token holds an account.
func (t *Token) Has(s SID) bool {
	_, ok := t.via[s]
	return ok
}

// All yields the accounts of the token, in the order of their packet form.
func (t *Token) All() iter.Seq[SID] {
	sorted := slices.SortedFunc(maps.Keys(t.via), compareSIDs)
	return slices.Values(sorted)
}

func compareSIDs(a, b SID) int { return strings.Compare(a.binary, b.binary) }

// Path is how the token came to hold an account: from the person's own
// memberships, to the account itself. It is just the account for the person
// and for what everybody is.
func (t *Token) Path(s SID) []SID {
	path := []SID{s}
	for range len(t.via) { // a membership that leads in a circle must not hang us
		through, ok := t.via[s]
		if !ok || through.IsZero() || through == t.User {
			break
		}
		path = append(path, through)
		s = through
	}
	slices.Reverse(path)
	return path
}
