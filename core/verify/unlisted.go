package verify

import (
	"strings"

	"bridgespan/core/paths"
)

// Unlisted leaves out what lies in a folder that could not be listed at one side: it can
// neither be compared nor be called missing. It must be given the pairs in order. The zero
// value is ready.
type Unlisted struct{ folder string }

// Contains reports whether a pair lies in a folder that could not be listed.
func (u *Unlisted) Contains(p paths.Pair[Item]) bool {
	if u.folder != "" && strings.HasPrefix(p.Path, u.folder+"/") {
		return true
	}
	u.folder = ""
	for _, i := range []*Item{p.First, p.Second} {
		if i != nil && i.Folder && i.Unread != "" {
			u.folder = p.Path
		}
	}
	return false
}

// Inside reports whether the next pair may lie in such a folder.
func (u *Unlisted) Inside() bool { return u.folder != "" }
