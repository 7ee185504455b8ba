package treetest

import (
	"errors"
	"io"
	"io/fs"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/chunk"
	"bridgespan/tree"
)

func testStage(t *testing.T, tr tree.Tree) {
	if _, ok := tr.(tree.Stager); !ok {
		t.Skip("this tree has no way to stage files")
	}
	mkdir(t, tr, "intake")
	at := time.Date(2026, 2, 3, 4, 5, 6, 0, time.UTC)
	readOnly := tree.ReadOnly
	d, err := acl.Parse("O:BAG:BAD:(A;;FA;;;BA)(A;;FR;;;WD)")
	if err != nil {
		t.Fatal(err)
	}
	e, err := tree.Stage(t.Context(), tr, "intake/a", strings.NewReader("content"), tree.PutOptions{Size: 7, SizeKnown: true, Detail: tree.WithDescriptors, Meta: tree.Meta{Modified: at, Attributes: &readOnly, Descriptor: d}})
	if err != nil || e.Name != "a" || e.Size != 7 || !e.Modified.Equal(at) || e.Attributes&tree.ReadOnly == 0 || len(acl.Compare(e.Descriptor.Parts(), d.Parts())) > 0 {
		t.Errorf("Stage returned %+v, %v", e, err)
	}
	if err := tree.Flush(t.Context(), tr); err != nil {
		t.Errorf("Flush: %v", err)
	}
	wantContent(t, tr, "intake/a", "content")
	if s, err := tr.Stat(t.Context(), "intake/a"); err != nil || !s.Modified.Equal(e.Modified) || s.Size != e.Size || s.Attributes != e.Attributes {
		t.Errorf("Stat is %+v, %v; Stage returned %+v", s, err, e)
	}
	if s, err := tr.Descriptor(t.Context(), "intake/a"); err != nil || s != e.Descriptor {
		t.Errorf("Descriptor is %v, %v; Stage returned %v", s, err, e.Descriptor)
	}
	testStageListed(t, tr, e)
	_, err = tree.Stage(t.Context(), tr, "intake/a", strings.NewReader("other"), tree.PutOptions{})
	wantError(t, "Stage of a name that is taken", err, fs.ErrExist)
	_, err = tree.Stage(t.Context(), tr, "intake/b", strings.NewReader("short"), tree.PutOptions{Size: 6, SizeKnown: true})
	wantError(t, "Stage of too little", err, tree.ErrTorn)
	_, err = tree.Stage(t.Context(), tr, "intake/c", iotest.ErrReader(fs.ErrClosed), tree.PutOptions{})
	wantError(t, "Stage of what cannot be read", err, fs.ErrClosed)
	if !tr.Capabilities().NoFolders {
		_, err = tree.Stage(t.Context(), tr, "nowhere/d", strings.NewReader("x"), tree.PutOptions{})
		wantError(t, "Stage in a folder that is not there", err, fs.ErrNotExist)
	}
	wantNames(t, tr, "intake", "a")
}

// testGrow stages a file piece by piece, as one that is broken off goes on.
func testGrow(t *testing.T, tr tree.Tree) {
	stage := func(name, content string, at int64, part bool) (tree.Entry, error) {
		return tree.Stage(t.Context(), tr, name, strings.NewReader(content), tree.PutOptions{Size: 9, SizeKnown: true, At: at, Part: part, Meta: tree.Meta{Modified: grownAt}})
	}
	if !tr.Capabilities().Grows {
		_, err := stage("grown", "abc", 0, true)
		wantError(t, "Stage of a part", err, tree.ErrUnsupported)
		wantNames(t, tr, ".")
		return
	}
	grown := func(content string, at, want int64) {
		t.Helper()
		e, err := stage("grown", content, at, true)
		if err != nil || e.Name != "grown" || e.Size != want {
			t.Errorf("Stage of %q at %d returned %+v, %v", content, at, e, err)
		}
	}
	grown("abc", 0, 3)
	grown("", 3, 3)
	grown("defg", 3, 7)
	wantContent(t, tr, "grown", "abcdefg")
	_, err := stage("grown", "abc", 0, true)
	wantError(t, "Stage of what was begun", err, fs.ErrExist)
	_, err = stage("grown", "xy", 8, true)
	wantError(t, "Stage beyond what is there", err, tree.ErrTorn)
	_, err = stage("grown", "x", 7, false)
	wantError(t, "Stage of too little", err, tree.ErrTorn)
	_, err = stage("grown", "xyz", 7, true)
	wantError(t, "Stage of too much", err, tree.ErrTorn)
	_, err = tree.Stage(t.Context(), tr, "grown", iotest.ErrReader(fs.ErrClosed), tree.PutOptions{At: 3, Part: true, Size: 9, SizeKnown: true})
	wantError(t, "Stage of what cannot be read", err, fs.ErrClosed)
	_, err = stage("nowhere", "xyz", 3, true)
	wantError(t, "Stage after what is not there", err, fs.ErrNotExist)
	wantNames(t, tr, ".", "grown")
	grown("DE", 3, 5) // what came after the beginning does not count
	e, err := stage("grown", "FGHI", 5, true)
	if err != nil || e.Size != 9 || !e.Modified.Equal(grownAt) {
		t.Errorf("Stage of the last part returned %+v, %v", e, err)
	}
	wantContent(t, tr, "grown", "abcDEFGHI")
	if e, err := tr.Stat(t.Context(), "grown"); err != nil || e.Size != 9 || !e.Modified.Equal(grownAt) {
		t.Errorf("Stat is %+v, %v", e, err)
	}
}

var grownAt = time.Date(2026, 2, 3, 4, 5, 6, 0, time.UTC)

// testStageListed stages the same as first again, to be listed afterwards.
func testStageListed(t *testing.T, tr tree.Tree, first tree.Entry) {
	mkdir(t, tr, "listed")
	attributes := first.Attributes
	e, err := tree.Stage(t.Context(), tr, "listed/a", strings.NewReader("content"), tree.PutOptions{Size: 7, SizeKnown: true, Listed: true, Detail: tree.WithDescriptors,
		Meta: tree.Meta{Modified: first.Modified, Attributes: &attributes, Descriptor: first.Descriptor}})
	if err != nil || e.Name != "a" || e.Size != 7 || e.Descriptor != first.Descriptor {
		t.Errorf("Stage of what is to be listed returned %+v, %v", e, err)
	}
	for listed, err := range tr.List(t.Context(), "listed", tree.Plain) {
		if err != nil || listed.Size != 7 || !listed.Modified.Equal(first.Modified) || listed.Attributes != first.Attributes || listed.ID == 0 && tr.Capabilities().IDs {
			t.Errorf("the listing tells %+v, %v; Stage told %+v", listed, err, first)
		}
	}
	if err := tr.Apply(t.Context(), "listed/a", tree.Meta{Attributes: new(tree.Attributes)}); err != nil { // so that it can be removed
		t.Error(err)
	}
}

// testOpenExpected reads files that are as expected, and some that are not.
func testOpenExpected(t *testing.T, tr tree.Tree) {
	was := put(t, tr, "expected", "as it was")
	read := func(name string, expected tree.Entry) (content string, same bool, err error) {
		c, err := tree.OpenExpected(t.Context(), tr, name, expected)
		if err != nil {
			return "", false, err
		}
		defer c.Close()
		b, err := io.ReadAll(io.NewSectionReader(c, 0, expected.Size))
		if err == nil {
			same, err = tree.Unchanged(t.Context(), tr, name, c)
			same = same && c.Entry().Size == expected.Size && c.Entry().Modified.Equal(expected.Modified)
		}
		return string(b), same, err
	}
	if content, same, err := read("expected", was); content != "as it was" || !same || err != nil {
		t.Errorf("what is as expected reads %q, %v, %v", content, same, err)
	}
	longer := was
	longer.Size++
	if content, same, err := read("expected", longer); content != "as it was" || same || err != nil {
		t.Errorf("what is shorter than expected reads %q, %v, %v", content, same, err)
	}
	earlier := was
	earlier.Modified = was.Modified.Add(-time.Hour)
	if _, same, err := read("expected", earlier); same || err != nil {
		t.Errorf("what is younger than expected is taken for unchanged, %v", err)
	}
	if _, _, err := read("nowhere", was); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("what is not there: %v", err)
	}
	mkdir(t, tr, "a folder")
	if _, _, err := read("a folder", was); err == nil {
		t.Error("a folder was read")
	}
}

func testAssemble(t *testing.T, tr tree.Tree) {
	a, ok := tr.(tree.Assembler)
	if !ok {
		t.Skip("this tree has no way to make files of parts of others")
	}
	put(t, tr, "base", "0123456789")
	testCopy(t, tr, a)
	if !tr.Capabilities().Ranges {
		_, err := a.Assemble(t.Context(), "made", "base", []chunk.Part{{Length: 3, From: 2}}, nil, tree.PutOptions{Size: 3, SizeKnown: true})
		wantError(t, "Assemble of a range", err, tree.ErrUnsupported)
		wantNames(t, tr, ".", "base", "copy")
		return
	}
	parts := []chunk.Part{{At: 0, Length: 3, From: 5}, {At: 3, Length: 4, From: -1}, {At: 7, Length: 2, From: 0}}
	at := time.Date(2026, 2, 3, 4, 5, 6, 0, time.UTC)
	e, err := a.Assemble(t.Context(), "made", "base", parts, strings.NewReader("...NEW!.."), tree.PutOptions{Size: 9, SizeKnown: true, Meta: tree.Meta{Modified: at}})
	if err != nil || e.Name != "made" || e.Size != 9 || !e.Modified.Equal(at) {
		t.Errorf("Assemble returned %+v, %v", e, err)
	}
	wantContent(t, tr, "made", "567NEW!01")
	wantContent(t, tr, "base", "0123456789")
	_, err = a.Assemble(t.Context(), "made", "base", parts, strings.NewReader("...NEW!.."), tree.PutOptions{Size: 9, SizeKnown: true})
	wantError(t, "Assemble of a name that is taken", err, fs.ErrExist)
	_, err = a.Assemble(t.Context(), "short", "base", []chunk.Part{{At: 0, Length: 20, From: 0}}, strings.NewReader(""), tree.PutOptions{Size: 20, SizeKnown: true})
	wantError(t, "Assemble of more than the base holds", err, tree.ErrTorn)
	_, err = a.Assemble(t.Context(), "short", "base", parts, strings.NewReader("..."), tree.PutOptions{Size: 9, SizeKnown: true})
	wantError(t, "Assemble of more than the content holds", err, tree.ErrTorn)
	_, err = a.Assemble(t.Context(), "short", "nothing", parts, strings.NewReader("...NEW!.."), tree.PutOptions{})
	wantError(t, "Assemble of what is not there", err, fs.ErrNotExist)
	wantNames(t, tr, ".", "base", "copy", "made")
}

// testCopy copies a whole file, which every Assembler can.
func testCopy(t *testing.T, tr tree.Tree, a tree.Assembler) {
	at := time.Date(2026, 2, 3, 4, 5, 6, 0, time.UTC)
	whole := []chunk.Part{{Length: 10}}
	e, err := a.Assemble(t.Context(), "copy", "base", whole, nil, tree.PutOptions{Size: 10, SizeKnown: true, Meta: tree.Meta{Modified: at}})
	if err != nil || e.Name != "copy" || e.Size != 10 || !e.Modified.Equal(at) {
		t.Errorf("a copy is %+v, %v", e, err)
	}
	wantContent(t, tr, "copy", "0123456789")
	_, err = a.Assemble(t.Context(), "copy", "base", whole, nil, tree.PutOptions{Size: 10, SizeKnown: true})
	wantError(t, "a copy to a name that is taken", err, fs.ErrExist)
	_, err = a.Assemble(t.Context(), "gone", "nothing", whole, nil, tree.PutOptions{Size: 10, SizeKnown: true})
	wantError(t, "a copy of what is not there", err, fs.ErrNotExist)
	wantNames(t, tr, ".", "base", "copy")
}
