package treetest

import (
	"errors"
	"io/fs"
	"testing"

	"bridgespan/tree"
)

// Whoever may protect a folder goes on working in it, as often as it is protected.
func testProtect(t *testing.T, tr tree.Tree) {
	mkdir(t, tr, ".bspan/intake")
	put(t, tr, ".bspan/before", "before")
	for range 2 {
		err := tree.Protect(t.Context(), tr, ".bspan")
		if errors.Is(err, tree.ErrUnsupported) {
			t.Skip("nobody else can come to it")
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	put(t, tr, ".bspan/after", "after")
	put(t, tr, ".bspan/intake/deep", "deep")
	wantNames(t, tr, ".bspan", "before", "after", "intake")
	wantContent(t, tr, ".bspan/before", "before")
	if err := tr.Rename(t.Context(), ".bspan/after", "out", false); err != nil {
		t.Error(err)
	}
	if err := tree.RemoveAll(t.Context(), tr, ".bspan"); err != nil {
		t.Error(err)
	}
	wantError(t, "protect what is not there", tree.Protect(t.Context(), tr, ".bspan"), fs.ErrNotExist)
}
