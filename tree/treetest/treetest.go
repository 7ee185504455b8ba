// Package treetest is the conformance suite that every implementation of
// tree.Tree passes.
package treetest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"runtime"
	"slices"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"bridgespan/core/acl"
	"bridgespan/guard"
	"bridgespan/tree"
)

// Run runs the suite. empty is called once for each test and returns a tree
// that holds nothing.
func Run(t *testing.T, empty func(t *testing.T) tree.Tree) {
	for name, test := range map[string]func(*testing.T, tree.Tree){
		"PutAndRead":       testPutAndRead,
		"RangedReads":      testRangedReads,
		"PutIsAtomic":      testPutIsAtomic,
		"PutReplaces":      testPutReplaces,
		"ReadersKeep":      testConcurrentPut,
		"List":             testList,
		"Folders":          testFolders,
		"Rename":           testRename,
		"Exchange":         testExchange,
		"Stage":            testStage,
		"Grow":             testGrow,
		"Assemble":         testAssemble,
		"OpenExpected":     testOpenExpected,
		"Watch":            testWatch,
		"Case":             testCase,
		"Names":            testNames,
		"BadNames":         testBadNames,
		"Missing":          testMissing,
		"Kinds":            testKinds,
		"Meta":             testMeta,
		"Descriptors":      testDescriptors,
		"IDs":              testIDs,
		"Protect":          testProtect,
		"Space":            testSpace,
		"Cancelled":        testCancelled,
		"WalkAndRemoveAll": testWalk,
		"Versions":         testVersions,
		"Digests":          testDigests,
		"CopyOfAnother":    testCopyOfAnother,
		"ImpliedFolders":   testImpliedFolders,
		"Residency":        testResidency,
		"Stubs":            testStubs,
		"RangesOfStubs":    testRangesOfStubs,
		"CopyOfStub":       testCopyOfStub,
	} {
		t.Run(name, func(t *testing.T) { test(t, empty(t)) })
	}
}

func put(t *testing.T, tr tree.Tree, name, content string) tree.Entry {
	t.Helper()
	e, err := tr.Put(t.Context(), name, strings.NewReader(content), tree.PutOptions{})
	if err != nil {
		t.Fatalf("Put(%q): %v", name, err)
	}
	return e
}

func mkdir(t *testing.T, tr tree.Tree, name string) {
	t.Helper()
	if err := tree.MkdirAll(t.Context(), tr, name); err != nil {
		t.Fatalf("MkdirAll(%q): %v", name, err)
	}
}

func wantContent(t *testing.T, tr tree.Tree, name, want string) {
	t.Helper()
	got, err := tree.ReadFile(t.Context(), tr, name)
	if err != nil || string(got) != want {
		t.Errorf("content of %q = %.60q, %v; want %.60q", name, got, err, want)
	}
}

func wantError(t *testing.T, what string, err, want error) {
	t.Helper()
	if !errors.Is(err, want) {
		t.Errorf("%s: error %v, want %v", what, err, want)
	}
}

func wantNames(t *testing.T, tr tree.Tree, folder string, want ...string) {
	t.Helper()
	slices.Sort(want)
	if got := names(t, tr, folder); !slices.Equal(got, want) {
		t.Errorf("List(%q) = %q, want %q", folder, got, want)
	}
}

// names are those in a folder, sorted.
func names(t *testing.T, tr tree.Tree, folder string) (got []string) {
	t.Helper()
	for e, err := range tr.List(t.Context(), folder, tree.Plain) {
		if err != nil {
			t.Fatalf("List(%q): %v", folder, err)
		}
		got = append(got, e.Name)
	}
	slices.Sort(got)
	return got
}

func testPutAndRead(t *testing.T, tr tree.Tree) {
	for _, size := range []int{0, 1, 4095, 70_000, 3 << 20} {
		name := fmt.Sprintf("file-%d", size)
		want := strings.Repeat("herbarium ", size/10+1)[:size]
		e := put(t, tr, name, want)
		if e.Name != name || e.Size != int64(size) || e.Kind != tree.File {
			t.Errorf("Put returned %+v", e)
		}
		if e, err := tr.Stat(t.Context(), name); err != nil || e.Size != int64(size) || time.Since(e.Modified) < -time.Hour {
			t.Errorf("Stat(%q) = %+v, %v", name, e, err)
		}
		wantContent(t, tr, name, want)
	}
	wantNames(t, tr, ".", "file-0", "file-1", "file-4095", "file-70000", "file-3145728")
}

func testRangedReads(t *testing.T, tr tree.Tree) {
	put(t, tr, "f", "0123456789")
	c, err := tr.Open(t.Context(), "f")
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if e := c.Entry(); e.Size != 10 || e.Name != "f" {
		t.Errorf("Entry() = %+v", e)
	}
	p := make([]byte, 4)
	if n, err := c.ReadAt(p, 3); n != 4 || err != nil || string(p) != "3456" {
		t.Errorf("ReadAt(3) = %d, %v, %q", n, err, p)
	}
	if n, err := c.ReadAt(p, 8); n != 2 || err != io.EOF || string(p[:2]) != "89" {
		t.Errorf("ReadAt across the end = %d, %v, %q", n, err, p)
	}
	if n, err := c.ReadAt(p, 50); n != 0 || err != io.EOF {
		t.Errorf("ReadAt past the end = %d, %v", n, err)
	}
}

func testPutIsAtomic(t *testing.T, tr tree.Tree) {
	broken := errors.New("the line went down")
	source := io.MultiReader(strings.NewReader(strings.Repeat("x", 100_000)), iotest.ErrReader(broken))
	_, err := tr.Put(t.Context(), "torn", source, tree.PutOptions{})
	wantError(t, "Put from a failing source", err, broken)
	_, err = tr.Put(t.Context(), "short", strings.NewReader("abc"), tree.PutOptions{Size: 5, SizeKnown: true})
	wantError(t, "Put of too little", err, tree.ErrTorn)
	wantNames(t, tr, ".")

	put(t, tr, "kept", "before")
	source = io.MultiReader(strings.NewReader("after"), iotest.ErrReader(broken))
	_, err = tr.Put(t.Context(), "kept", source, tree.PutOptions{Replace: true})
	wantError(t, "replacing Put from a failing source", err, broken)
	wantContent(t, tr, "kept", "before")
	wantNames(t, tr, ".", "kept")
}

func testPutReplaces(t *testing.T, tr tree.Tree) {
	put(t, tr, "f", "one, and longer")
	_, err := tr.Put(t.Context(), "f", strings.NewReader("two"), tree.PutOptions{})
	wantError(t, "Put over a file without Replace", err, fs.ErrExist)
	wantContent(t, tr, "f", "one, and longer")
	if _, err := tr.Put(t.Context(), "f", strings.NewReader("two"), tree.PutOptions{Replace: true, Size: 3, SizeKnown: true}); err != nil {
		t.Fatal(err)
	}
	wantContent(t, tr, "f", "two")
	mkdir(t, tr, "in")
	if _, err := tr.Put(t.Context(), "g", strings.NewReader("three"), tree.PutOptions{Intake: "in"}); err != nil {
		t.Fatal(err)
	}
	wantContent(t, tr, "g", "three")
	wantNames(t, tr, "in")
}

// testConcurrentPut: whoever reads while others replace sees one whole version.
func testConcurrentPut(t *testing.T, tr tree.Tree) {
	version := func(i int) string { return strings.Repeat(string(rune('a'+i)), 50_000) }
	put(t, tr, "f", version(0))
	var group guard.WaitGroup
	for i := range 3 {
		group.Go(func() {
			for range 5 {
				_, err := tr.Put(t.Context(), "f", strings.NewReader(version(i)), tree.PutOptions{Replace: true})
				if err != nil && !errors.Is(err, tree.ErrInUse) && !errors.Is(err, fs.ErrPermission) && !errors.Is(err, fs.ErrNotExist) {
					t.Errorf("concurrent Put: %v", err)
				}
			}
		})
	}
	for range 15 {
		got, err := tree.ReadFile(t.Context(), tr, "f")
		if errors.Is(err, tree.ErrInUse) || errors.Is(err, fs.ErrNotExist) || errors.Is(err, tree.ErrVersion) {
			continue // a server may refuse for the instant of a replacement, or keep the new one alone
		}
		if err != nil || len(got) != 50_000 || !bytes.Equal(got, bytes.Repeat(got[:1], 50_000)) {
			t.Errorf("read a mixture: %d bytes, %v", len(got), err)
		}
	}
	group.Wait()
	wantNames(t, tr, ".", "f")
}

func testList(t *testing.T, tr tree.Tree) {
	var want []string
	for i := range 30 {
		name := fmt.Sprintf("specimen %02d.txt", i)
		put(t, tr, name, name)
		want = append(want, name)
	}
	mkdir(t, tr, "sub/below")
	put(t, tr, "sub/inner", "x")
	wantNames(t, tr, ".", append(want, "sub")...)
	wantNames(t, tr, "sub", "below", "inner")
	wantNames(t, tr, "sub/below")
	for _, detail := range []tree.Detail{tree.Plain, tree.WithDescriptors, tree.Bare} {
		n := 0
		for e, err := range tr.List(t.Context(), ".", detail) {
			if n++; err != nil || (e.Kind == tree.Folder) != (e.Name == "sub") || e.Kind == tree.File && e.Size != 15 || e.Modified.IsZero() || tr.Capabilities().IDs && e.ID == 0 {
				t.Errorf("listed with detail %d: %+v, %v", detail, e, err)
			}
		}
		if n != len(want)+1 {
			t.Errorf("%d entries with detail %d, not %d", n, detail, len(want)+1)
		}
	}
	if tr.Capabilities().CostlyDetail {
		testVersionListing(t, tr, want)
	}
	for range tr.List(t.Context(), ".", tree.Plain) {
		break // stopping early must not hang or leak
	}
}

// testVersionListing lists versions, which are those that Stat tells.
func testVersionListing(t *testing.T, tr tree.Tree, files []string) {
	ctx := t.Context()
	versions := map[string]string{}
	for e, err := range tr.List(ctx, ".", tree.Versions) {
		if err != nil || e.Kind == tree.File && e.Size != 15 {
			t.Errorf("listed %+v, %v", e, err)
		}
		if e.Kind == tree.File {
			versions[e.Name] = e.Version
		}
	}
	for _, name := range files {
		if e, err := tr.Stat(ctx, name); err != nil || e.Version == "" || e.Version != versions[name] {
			t.Errorf("%s has the version %q in the listing, and %q, %v", name, versions[name], e.Version, err)
		}
	}
	made := func(folder string) (found bool) {
		for e, err := range tr.List(ctx, folder, tree.Versions) {
			if err != nil {
				t.Error(err)
			}
			found = found || e.Name == "." && e.Kind == tree.Folder
		}
		return found
	}
	if _, err := tr.Put(ctx, "implied/by this", strings.NewReader("x"), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	if !made("sub/below") || made("implied") {
		t.Error("a folder that was made is not told from one that exists for what is in it")
	}
	if err := tr.Remove(ctx, "implied/by this"); err != nil {
		t.Error(err)
	}
}

func testFolders(t *testing.T, tr tree.Tree) {
	ctx := t.Context()
	if !tr.Capabilities().NoFolders {
		wantError(t, "Mkdir without a parent", tr.Mkdir(ctx, "a/b"), fs.ErrNotExist)
	}
	mkdir(t, tr, "a/b/c")
	wantError(t, "Mkdir twice", tr.Mkdir(ctx, "a/b/c"), fs.ErrExist)
	wantError(t, "Remove of a full folder", tr.Remove(ctx, "a"), tree.ErrNotEmpty)
	put(t, tr, "a/b/c/f", "x")
	wantError(t, "MkdirAll through a file", tree.MkdirAll(ctx, tr, "a/b/c/f"), tree.ErrKind)
	for _, name := range []string{"a/b/c/f", "a/b/c", "a/b", "a"} {
		// A folder that nobody made goes with the last that is in it.
		if err := tr.Remove(ctx, name); err != nil && !(tr.Capabilities().NoFolders && errors.Is(err, fs.ErrNotExist)) {
			t.Errorf("Remove(%q): %v", name, err)
		}
	}
	wantNames(t, tr, ".")
	wantError(t, "Remove of the root", tr.Remove(ctx, "."), fs.ErrInvalid)
}

func testMeta(t *testing.T, tr tree.Tree) {
	ctx := t.Context()
	old := time.Date(1998, 5, 17, 9, 30, 1, 0, time.UTC)
	if _, err := tr.Put(ctx, "f", strings.NewReader("x"), tree.PutOptions{Meta: tree.Meta{Modified: old}}); err != nil {
		t.Fatal(err)
	}
	mkdir(t, tr, "d")
	later := old.Add(48 * time.Hour)
	if err := tr.Apply(ctx, "d", tree.Meta{Modified: later}); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]time.Time{"f": old, "d": later} {
		if e, err := tr.Stat(ctx, name); err != nil || !e.Modified.Equal(want) {
			t.Errorf("%s modified %v, %v; want %v", name, e.Modified, err, want)
		}
	}
	readOnly := tree.ReadOnly
	if err := tr.Apply(ctx, "f", tree.Meta{Attributes: &readOnly}); err != nil {
		t.Fatal(err)
	}
	if e, err := tr.Stat(ctx, "f"); err != nil || e.Attributes&tree.ReadOnly == 0 || !e.Modified.Equal(old) {
		t.Errorf("after read-only: %+v, %v", e, err)
	}
	none := tree.Attributes(0)
	if err := tr.Apply(ctx, "f", tree.Meta{Attributes: &none}); err != nil {
		t.Fatal(err)
	}
	if err := tr.Remove(ctx, "f"); err != nil {
		t.Error(err)
	}
}

func testDescriptors(t *testing.T, tr tree.Tree) {
	if !tr.Capabilities().Descriptors {
		t.Skip("this tree keeps no descriptors")
	}
	ctx := t.Context()
	d, err := acl.Parse("O:BAG:BAD:PAI(A;OICI;FA;;;BA)(A;OICI;FR;;;WD)")
	if err != nil {
		t.Fatal(err)
	}
	mkdir(t, tr, "d")
	if err := tr.Apply(ctx, "d", tree.Meta{Descriptor: d}); err != nil {
		t.Fatal(err)
	}
	if got, err := tr.Descriptor(ctx, "d"); err != nil || got.String() != d.String() {
		t.Errorf("Descriptor = %v, %v; want %v", got, err, d)
	}
	own, err := acl.Parse("O:BAG:BAD:PAI(A;;FA;;;BA)")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tr.Put(ctx, "d/f", strings.NewReader("1"), tree.PutOptions{Meta: tree.Meta{Descriptor: own}}); err != nil {
		t.Fatal(err)
	}
	if _, err := tr.Put(ctx, "d/f", strings.NewReader("2"), tree.PutOptions{Replace: true}); err != nil {
		t.Fatal(err)
	}
	for e, err := range tr.List(ctx, "d", tree.WithDescriptors) {
		if err != nil || e.Descriptor.String() != own.String() {
			t.Errorf("after a replacement %s has %v, %v; want %v", e.Name, e.Descriptor, err, own)
		}
	}
}

func testIDs(t *testing.T, tr tree.Tree) {
	if !tr.Capabilities().IDs {
		t.Skip("this tree has no ids")
	}
	id := func(name string) uint64 {
		t.Helper()
		for e, err := range tr.List(t.Context(), ".", tree.Plain) {
			if err != nil {
				t.Fatal(err)
			}
			if e.Name == name {
				return e.ID
			}
		}
		return 0
	}
	put(t, tr, "a", "1")
	put(t, tr, "b", "1")
	before := id("a")
	if before == 0 || before == id("b") {
		t.Fatalf("ids %d and %d", before, id("b"))
	}
	if err := tr.Rename(t.Context(), "a", "c", false); err != nil {
		t.Fatal(err)
	}
	if after := id("c"); after != before {
		t.Errorf("id changed with a rename: %d, %d", before, after)
	}
}

func testSpace(t *testing.T, tr tree.Tree) {
	s, err := tr.Space(t.Context())
	if err != nil || s.Total <= 0 || s.Free <= 0 || s.Free > s.Total {
		t.Errorf("Space = %+v, %v", s, err)
	}
}

func testCancelled(t *testing.T, tr tree.Tree) {
	put(t, tr, "f", "x")
	ctx, cancel := context.WithCancel(t.Context())
	source := &cancelling{cancel: cancel}
	_, err := tr.Put(ctx, "g", source, tree.PutOptions{})
	wantError(t, "Put", err, context.Canceled)
	_, err = tr.Stat(ctx, "f")
	wantError(t, "Stat", err, context.Canceled)
	// A host that was told of the end clears up while we go on.
	for deadline := time.Now().Add(10 * time.Second); len(names(t, tr, ".")) > 1 && time.Now().Before(deadline); {
		runtime.Gosched()
	}
	wantNames(t, tr, ".", "f")
}

// cancelling is an endless source that ends its reader's context.
type cancelling struct {
	cancel context.CancelFunc
	reads  int
}

func (c *cancelling) Read(p []byte) (int, error) {
	if c.reads++; c.reads == 3 {
		c.cancel()
	}
	return len(p), nil
}

func testWalk(t *testing.T, tr tree.Tree) {
	ctx := t.Context()
	mkdir(t, tr, "a/b")
	put(t, tr, "a/f", "x")
	put(t, tr, "a/b/g", "x")
	put(t, tr, "h", "x")
	var got []string
	for e, err := range tree.Walk(ctx, tr, ".", tree.Plain) {
		if err != nil {
			t.Fatal(err)
		}
		got = append(got, e.Path)
	}
	slices.Sort(got)
	if want := []string{"a", "a/b", "a/b/g", "a/f", "h"}; !slices.Equal(got, want) {
		t.Errorf("Walk = %q, want %q", got, want)
	}
	if err := tree.RemoveAll(ctx, tr, "a"); err != nil {
		t.Fatal(err)
	}
	if err := tree.RemoveAll(ctx, tr, "a"); err != nil {
		t.Errorf("RemoveAll of nothing: %v", err)
	}
	wantNames(t, tr, ".", "h")
}
