package treetest

import (
	"path"
	"strings"
	"testing"
	"time"

	"bridgespan/tree"
)

// Files puts files with the given contents into a tree, by their paths, and the
// folders they are in. All are modified at the same time.
func Files(t testing.TB, tr tree.Tree, modified time.Time, contents map[string]string) {
	t.Helper()
	for name, text := range contents {
		if folder := path.Dir(name); folder != "." {
			if err := tree.MkdirAll(t.Context(), tr, folder); err != nil {
				t.Fatal(err)
			}
		}
		if _, err := tr.Put(t.Context(), name, strings.NewReader(text), tree.PutOptions{Meta: tree.Meta{Modified: modified}}); err != nil {
			t.Fatal(err)
		}
	}
}
