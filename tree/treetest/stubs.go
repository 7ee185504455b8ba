package treetest

import (
	"bytes"
	"io"
	"testing"
	"time"

	"bridgespan/core/chunk"
	"bridgespan/tree"
)

// MakeStub makes a stub of a file of a tree that can hold stubs.
func MakeStub(t *testing.T, tr tree.Tree, name string) {
	t.Helper()
	e, err := tr.Stat(t.Context(), name)
	if err == nil {
		_, err = tree.Offload(t.Context(), tr, name, e, tree.Mark{Path: name, Modified: e.Modified})
	}
	if err != nil {
		t.Fatal(err)
	}
}

func wantResidency(t *testing.T, tr tree.Tree, name string, want tree.Residency) {
	t.Helper()
	if e, err := tr.Stat(t.Context(), name); err != nil || e.Residency != want {
		t.Errorf("%s: %+v, %v; want residency %d", name, e, err, want)
	}
}

// long is content of which not all arrives at once.
var long = bytes.Repeat([]byte("herbarium "), 300_000)

// testResidency: a stub shows its full size, and is filled by whoever reads it, but not by a
// tree that opens none.
func testResidency(t *testing.T, tr tree.Tree) {
	if !tr.Capabilities().Stubs {
		_, err := tree.Offload(t.Context(), tr, "f", put(t, tr, "f", "content"), tree.Mark{})
		wantError(t, "Offload", err, tree.ErrUnsupported)
		return
	}
	put(t, tr, "whole", "content")
	before := put(t, tr, "stub", string(long))
	MakeStub(t, tr, "stub")
	after, err := tr.Stat(t.Context(), "stub")
	if err != nil || after.ID != before.ID || after.Size != before.Size || !after.Modified.Equal(before.Modified) || after.Allocated >= before.Size/2 {
		t.Errorf("offloaded it is %+v, %v; was %+v", after, err, before)
	}
	resident := tree.Resident(tr)
	for _, detail := range []tree.Detail{tree.Plain, tree.WithDescriptors, tree.Bare} {
		for e, err := range resident.List(t.Context(), ".", detail) {
			if err != nil || (e.Residency == tree.Stub) != (e.Name == "stub") {
				t.Errorf("listed: %+v, %v", e, err)
			}
		}
	}
	wantContent(t, resident, "whole", "content")
	_, err = resident.Open(t.Context(), "stub")
	wantError(t, "Open of a stub", err, tree.ErrStub)
	_, err = tree.OpenExpected(t.Context(), resident, "stub", tree.Entry{Size: int64(len(long)), Residency: tree.Stub})
	wantError(t, "OpenExpected of a stub", err, tree.ErrStub)
	wantResidency(t, tr, "stub", tree.Stub)
	wantContent(t, tr, "stub", string(long))
	wantResidency(t, tr, "stub", tree.Whole)
	if after, err := tr.Stat(t.Context(), "stub"); err != nil || !after.Modified.Equal(before.Modified) {
		t.Errorf("read whole it is %+v, %v; was %+v", after, err, before)
	}
}

// testStubs: what can be done with stubs, and what must not be done by accident.
func testStubs(t *testing.T, tr tree.Tree) {
	if !tr.Capabilities().Stubs {
		t.Skip("no stubs can be made here")
	}
	modified := time.Unix(1_700_000_000, 0)
	e := put(t, tr, "f", string(long))
	wrong := e
	wrong.Size--
	_, err := tree.Offload(t.Context(), tr, "f", wrong, tree.Mark{Path: "f"})
	wantError(t, "Offload of another file", err, tree.ErrVersion)
	wantResidency(t, tr, "f", tree.Whole)
	_, err = tree.MarkOf(t.Context(), tr, "f")
	wantError(t, "Mark of a whole file", err, tree.ErrUnsupported)

	if err := tr.Apply(t.Context(), "f", tree.Meta{Modified: modified}); err != nil {
		t.Fatal(err)
	}
	MakeStub(t, tr, "f")
	if m, err := tree.MarkOf(t.Context(), tr, "f"); err != nil || m.Path != "f" || !m.Modified.Equal(modified) {
		t.Errorf("the mark is %+v, %v", m, err)
	}
	later := modified.Add(time.Hour)
	if err := tr.Apply(t.Context(), "f", tree.Meta{Modified: later}); err != nil { // by ourselves: it stays a stub
		t.Fatal(err)
	}
	if err := tr.Rename(t.Context(), "f", "g", false); err != nil {
		t.Fatal(err)
	}
	if _, err := tree.MarkOf(t.Context(), tr, "g"); err != nil {
		t.Errorf("moved, with another time: %v", err)
	}
	if err := tree.Fetch(t.Context(), tr, "g"); err != nil {
		t.Fatal(err)
	}
	wantResidency(t, tr, "g", tree.Whole)
	MakeStub(t, tr, "g")
	var parts []int64
	size, third := int64(len(long)), int64(len(long)/3+1)
	if err := tree.FetchParts(t.Context(), tr, "g", size, third, func(n int64) error { parts = append(parts, n); return nil }); err != nil || len(parts) != 3 || parts[0] != third || parts[2] != size-2*third {
		t.Errorf("FetchParts of %d bytes: in %d, %v", size, parts, err)
	}
	if err := tree.FetchPart(t.Context(), tr, "g", size, third); err != nil { // people may have cut it
		t.Errorf("FetchPart after the end: %v", err)
	}
	wantResidency(t, tr, "g", tree.Whole)
	wantContent(t, tr, "g", string(long))
	if e, err := tr.Stat(t.Context(), "g"); err != nil || !e.Modified.Equal(later) {
		t.Errorf("filled it is %+v, %v", e, err)
	}
}

// testRangesOfStubs: who reads a part of a stub gets that part, whatever else is there.
func testRangesOfStubs(t *testing.T, tr tree.Tree) {
	if !tr.Capabilities().Stubs {
		t.Skip("no stubs can be made here")
	}
	put(t, tr, "f", string(long))
	MakeStub(t, tr, "f")
	c, err := tr.Open(t.Context(), "f")
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	for _, at := range []int64{2_500_003, 0, 1_000_000, int64(len(long)) - 10} {
		p := make([]byte, 10)
		if n, err := c.ReadAt(p, at); n != 10 || err != nil && err != io.EOF || !bytes.Equal(p, long[at:at+10]) {
			t.Errorf("%d bytes at %d: %q, %v", n, at, p, err)
		}
	}
}

// testCopyOfStub: a copy that is made in the tree is not one of what is not there.
func testCopyOfStub(t *testing.T, tr tree.Tree) {
	if !tr.Capabilities().Stubs {
		t.Skip("no stubs can be made here")
	}
	put(t, tr, "f", string(long))
	MakeStub(t, tr, "f")
	size := int64(len(long))
	_, err := tree.Assemble(t.Context(), tr, "copy", "f", []chunk.Part{{Length: size}}, bytes.NewReader(nil), tree.PutOptions{Size: size, SizeKnown: true})
	if err == nil {
		wantContent(t, tr, "copy", string(long))
		return
	}
	wantError(t, "Assemble from a stub", err, tree.ErrUnsupported)
	wantNames(t, tr, ".", "f")
}
