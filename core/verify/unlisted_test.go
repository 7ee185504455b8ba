package verify

import (
	"testing"

	"bridgespan/core/paths"
)

// What lies in a folder that could not be listed at one side is neither missing nor the
// same: it is left out, and the folder itself is told.
func TestUnreadable(t *testing.T) {
	folder, file := func(path, unread string) *Item { return &Item{Path: path, Folder: true, Unread: unread} }, func(path string) *Item { return &Item{Path: path} }
	var unlisted Unlisted
	var counts Counts
	for _, p := range []paths.Pair[Item]{
		{Path: "a", First: folder("a", ""), Second: folder("a", "oak: no")},
		{Path: "a/in", First: file("a/in")},
		{Path: "a/in/deep", First: file("a/in/deep")},
		{Path: "ab", First: file("ab")},
		{Path: "b", First: folder("b", "elm: no"), Second: nil},
		{Path: "b/in", First: file("b/in")},
		{Path: "c", First: &Item{Path: "c", Unread: "elm: held"}, Second: file("c")},
	} {
		if !unlisted.Contains(p) {
			counts.Add(p.First, Compare(p.First, p.Second, Nobody))
		}
	}
	if counts.Unreadable != 2 || counts.Missing != 2 || counts.Compared != 4 || counts.Unexplained() != 4 {
		t.Errorf("%+v", counts)
	}
}
