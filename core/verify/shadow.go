package verify

import (
	"strings"

	"bridgespan/core/paths"
)

// Shadow knows what lies in folders that could not be listed at one of two sides: whether
// that is the same cannot be told, and it is not missing either. It is asked for pairs in
// order. The zero value is ready.
type Shadow struct{ folder string }

// Hides reports whether a pair lies in a folder that could not be listed.
func (s *Shadow) Hides(p paths.Pair[Item]) bool {
	if s.folder != "" && strings.HasPrefix(p.Path, s.folder+"/") {
		return true
	}
	s.folder = ""
	for _, i := range []*Item{p.First, p.Second} {
		if i != nil && i.Folder && i.Unread != "" {
			s.folder = p.Path
		}
	}
	return false
}

// Falls reports whether what comes next may lie in such a folder.
func (s *Shadow) Falls() bool { return s.folder != "" }
