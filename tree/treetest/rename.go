package treetest

import (
	"errors"
	"io/fs"
	"testing"

	"bridgespan/tree"
)

func testExchange(t *testing.T, tr tree.Tree) {
	x, ok := tr.(tree.Exchanger)
	if !ok {
		t.Skip("files cannot change places at once here")
	}
	ctx := t.Context()
	mkdir(t, tr, "in")
	put(t, tr, "in/waits", "new")
	put(t, tr, "stands", "old")
	if err := x.Exchange(ctx, "in/waits", "stands"); errors.Is(err, tree.ErrUnsupported) {
		wantContent(t, tr, "stands", "old")
		t.Skip("files cannot change places at once here")
	} else if err != nil {
		t.Fatal(err)
	}
	wantContent(t, tr, "stands", "new")
	wantContent(t, tr, "in/waits", "old")
	wantNames(t, tr, "in", "waits")
	wantError(t, "Exchange with nothing", x.Exchange(ctx, "stands", "nothing"), fs.ErrNotExist)
	wantError(t, "Exchange of nothing", x.Exchange(ctx, "nothing", "stands"), fs.ErrNotExist)
	wantError(t, "Exchange with a folder", x.Exchange(ctx, "stands", "in"), tree.ErrKind)
	wantError(t, "Exchange with a bad name", x.Exchange(ctx, "stands", "../stands"), fs.ErrInvalid)
	wantContent(t, tr, "stands", "new")
}

func testRename(t *testing.T, tr tree.Tree) {
	ctx := t.Context()
	mkdir(t, tr, "a/b")
	put(t, tr, "a/b/f", "f")
	put(t, tr, "g", "g")
	if err := tr.Rename(ctx, "a", "moved", false); err != nil {
		t.Fatal(err)
	}
	wantContent(t, tr, "moved/b/f", "f")
	wantError(t, "Rename over a file", tr.Rename(ctx, "moved/b/f", "g", false), fs.ErrExist)
	wantContent(t, tr, "g", "g")
	if err := tr.Rename(ctx, "moved/b/f", "g", true); err != nil {
		t.Fatal(err)
	}
	wantContent(t, tr, "g", "f")
	wantError(t, "Rename of a folder over a file", tr.Rename(ctx, "moved", "g", true), fs.ErrExist)
	wantError(t, "Rename into itself", tr.Rename(ctx, "moved", "moved/b/deeper", false), fs.ErrInvalid)
	wantError(t, "Rename of nothing", tr.Rename(ctx, "nothing", "x", false), fs.ErrNotExist)
	if !tr.Capabilities().NoFolders {
		wantError(t, "Rename to nowhere", tr.Rename(ctx, "g", "nowhere/x", false), fs.ErrNotExist)
	}
	wantNames(t, tr, ".", "g", "moved")
}
