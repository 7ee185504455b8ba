// Package lock holds the rules of write locks on names (RFC 4918, sections 6
// and 7): what a lock covers, which locks exclude each other, what a change
// needs, and the conditions of the If header (section 10.4).
//
// It keeps nothing: callers bring the locks that are held now.
package lock

import (
	"slices"
	"strings"
	"time"
)

// Lock is one write lock.
type Lock struct {
	Token   string // a URI (section 6.5)
	Path    string // what is locked, as the client named it
	Key     string // Path in the form in which paths are compared: case does not count
	Account string // who holds it
	Owner   string // what the client says about the holder, as XML; may be empty
	Shared  bool
	Deep    bool // covers everything below as well
	Until   time.Time
}

// Below reports whether a key lies below another.
func Below(key, above string) bool {
	return len(key) > len(above) && key[len(above)] == '/' && key[:len(above)] == above || above == "/" && len(key) > 1
}

// Covers reports whether the lock is on key: itself, or from above.
func (l Lock) Covers(key string) bool { return l.Key == key || l.Deep && Below(key, l.Key) }

// concerns reports whether the lock is on key, or, when deep, on something below it.
func (l Lock) concerns(key string, deep bool) bool {
	return l.Covers(key) || deep && Below(l.Key, key)
}

// Conflict finds a lock that forbids to take another on key; deep and shared
// describe that other one (section 6.1 and 7.5).
func Conflict(held []Lock, key string, deep, shared bool) (Lock, bool) {
	i := slices.IndexFunc(held, func(l Lock) bool { return l.concerns(key, deep) && !(l.Shared && shared) })
	if i < 0 {
		return Lock{}, false
	}
	return held[i], true
}

// Change is what a request is about to change.
type Change struct {
	Key  string
	Deep bool // with everything below, as when a folder is removed
}

// Blocking finds a lock that a change by account lacks the token for. Of
// several shared locks on the same thing one token is enough (section 7.1). A
// token counts only for the account that took the lock (section 6.4).
func Blocking(held []Lock, account string, tokens []string, changes ...Change) (Lock, bool) {
	ours := func(l Lock) bool { return strings.EqualFold(l.Account, account) && slices.Contains(tokens, l.Token) }
	for _, change := range changes {
		for _, l := range held {
			if !l.concerns(change.Key, change.Deep) || ours(l) {
				continue
			}
			shares := func(other Lock) bool {
				return other.Shared && ours(other) && (other.Covers(l.Key) || l.Covers(other.Key))
			}
			if !l.Shared || !slices.ContainsFunc(held, shares) {
				return l, true
			}
		}
	}
	return Lock{}, false
}

// Above are the keys from the root down to a key, both included: where locks
// that cover it may lie.
func Above(key string) []string {
	keys := []string{"/"}
	for i := 1; i < len(key); i++ {
		if key[i] == '/' {
			keys = append(keys, key[:i])
		}
	}
	if key != "/" {
		keys = append(keys, key)
	}
	return keys
}
