package treetest

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"testing"
	"time"

	"bridgespan/tree"
)

func testCase(t *testing.T, tr tree.Tree) {
	ctx := t.Context()
	put(t, tr, "Fern", "upper")
	_, err := tr.Put(ctx, "fern", strings.NewReader("lower"), tree.PutOptions{})
	if tr.Capabilities().CaseSensitive {
		if err != nil {
			t.Fatal(err)
		}
		wantNames(t, tr, ".", "Fern", "fern")
		return
	}
	wantError(t, "Put of a name in another case", err, fs.ErrExist)
	wantContent(t, tr, "FERN", "upper")
	if err := tr.Rename(ctx, "Fern", "fern", false); err != nil {
		t.Errorf("Rename that changes case alone: %v", err)
	}
	wantNames(t, tr, ".", "fern")
}

func testNames(t *testing.T, tr tree.Tree) {
	names := []string{"Säule", "標本 №7", "name with  two spaces", "'quotes' & (brackets)", "#hash%41", "трава", "emoji 🌿", strings.Repeat("l", 255)}
	for _, name := range names {
		put(t, tr, name, name)
		wantContent(t, tr, name, name)
	}
	wantNames(t, tr, ".", names...)
}

func testBadNames(t *testing.T, tr tree.Tree) {
	ctx := t.Context()
	for _, name := range []string{"", "/", "/abs", "a/", "a//b", "..", "../up", "a/../../b", "./a", "nul\x00", "bad\xff", strings.Repeat("d/", 3000) + "x", strings.Repeat("l", 256)} {
		_, err := tr.Put(ctx, name, strings.NewReader("x"), tree.PutOptions{})
		wantError(t, fmt.Sprintf("Put(%.20q)", name), err, fs.ErrInvalid)
		wantError(t, fmt.Sprintf("Mkdir(%.20q)", name), tr.Mkdir(ctx, name), fs.ErrInvalid)
	}
	for _, name := range []string{"", "..", "../up", "nul\x00", "bad\xff"} {
		_, err := tr.Stat(ctx, name)
		wantError(t, fmt.Sprintf("Stat(%q)", name), err, fs.ErrInvalid)
		_, err = tr.Open(ctx, name)
		wantError(t, fmt.Sprintf("Open(%q)", name), err, fs.ErrInvalid)
		wantError(t, fmt.Sprintf("Remove(%q)", name), tr.Remove(ctx, name), fs.ErrInvalid)
		wantError(t, fmt.Sprintf("Rename(%q)", name), tr.Rename(ctx, name, "x", true), fs.ErrInvalid)
		wantError(t, fmt.Sprintf("Rename(to %q)", name), tr.Rename(ctx, "x", name, true), fs.ErrInvalid)
	}
	wantNames(t, tr, ".")
}

func testMissing(t *testing.T, tr tree.Tree) {
	ctx := t.Context()
	_, err := tr.Stat(ctx, "missing")
	wantError(t, "Stat", err, fs.ErrNotExist)
	_, err = tr.Open(ctx, "missing/deeper")
	wantError(t, "Open", err, fs.ErrNotExist)
	if !tr.Capabilities().NoFolders {
		_, err = tr.Put(ctx, "missing/f", strings.NewReader(""), tree.PutOptions{})
		wantError(t, "Put", err, fs.ErrNotExist)
	}
	_, err = tr.Descriptor(ctx, "missing")
	wantError(t, "Descriptor", err, fs.ErrNotExist)
	wantError(t, "Remove", tr.Remove(ctx, "missing"), fs.ErrNotExist)
	wantError(t, "Apply", tr.Apply(ctx, "missing", tree.Meta{Modified: time.Now()}), fs.ErrNotExist)
	for _, err := range tr.List(ctx, "missing", tree.Plain) {
		wantError(t, "List", err, fs.ErrNotExist)
	}
	var pathError *fs.PathError
	if !errors.As(err, &pathError) {
		t.Errorf("error %v is no *fs.PathError", err)
	}
}

func testKinds(t *testing.T, tr tree.Tree) {
	ctx := t.Context()
	mkdir(t, tr, "folder")
	put(t, tr, "file", "x")
	_, err := tr.Open(ctx, "folder")
	wantError(t, "Open of a folder", err, tree.ErrKind)
	_, err = tr.Put(ctx, "folder", strings.NewReader("x"), tree.PutOptions{Replace: true})
	wantError(t, "Put over a folder", err, tree.ErrKind)
	seen := 0
	for _, err := range tr.List(ctx, "file", tree.Plain) {
		wantError(t, "List of a file", err, tree.ErrKind)
		seen++
	}
	if seen != 1 {
		t.Errorf("List of a file yielded %d times", seen)
	}
	if root, err := tr.Stat(ctx, "."); err != nil || root.Kind != tree.Folder {
		t.Errorf("Stat(.) = %+v, %v", root, err)
	}
}
