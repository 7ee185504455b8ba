package treetest

import (
	"io/fs"
	"strings"
	"testing"

	"github.com/zeebo/blake3"

	"bridgespan/core/chunk"
	"bridgespan/tree"
)

// testVersions: where versions are told, each content has another one, and a file is replaced
// only while it has the version that the caller knows.
func testVersions(t *testing.T, tr tree.Tree) {
	replace := func(content, version string) (tree.Entry, error) {
		return tr.Put(t.Context(), "f", strings.NewReader(content), tree.PutOptions{Replace: true, Version: version})
	}
	first := put(t, tr, "f", "one")
	if !tr.Capabilities().Versions {
		_, err := replace("two", "any")
		wantError(t, "Put of a known version", err, tree.ErrUnsupported)
		wantContent(t, tr, "f", "one")
		return
	}
	if e, err := tr.Stat(t.Context(), "f"); err != nil || first.Version == "" || e.Version != first.Version {
		t.Errorf("put as %q, and has %q, %v", first.Version, e.Version, err)
	}
	second, err := replace("two", first.Version)
	if err != nil || second.Version == first.Version || second.Version == "" {
		t.Errorf("the second version is %q, the first %q, %v", second.Version, first.Version, err)
	}
	_, err = replace("three", first.Version)
	wantError(t, "Put over another version", err, tree.ErrVersion)
	wantContent(t, tr, "f", "two")
	if err := tr.Remove(t.Context(), "f"); err != nil {
		t.Fatal(err)
	}
	_, err = replace("four", second.Version)
	wantError(t, "Put where nothing is", err, tree.ErrVersion)
	wantNames(t, tr, ".")
}

// testDigests: where hashes are kept, that of a short file always is, and that of a long one when it was told. A copy has the same.
func testDigests(t *testing.T, tr tree.Tree) {
	from := tr.Capabilities().Digests
	if from == 0 {
		if e := put(t, tr, "f", "one"); e.Digest.Known() {
			t.Errorf("a hash is told: %v", e.Digest)
		}
		return
	}
	long := strings.Repeat("fern ", int(from/5)+1)
	for name, c := range map[string]struct {
		content    string
		told, want chunk.Digest
	}{
		"short":      {"fern", chunk.Digest{}, blake3.Sum256([]byte("fern"))},
		"long":       {long, blake3.Sum256([]byte(long)), blake3.Sum256([]byte(long))},
		"long alone": {long, chunk.Digest{}, chunk.Digest{}},
	} {
		e, err := tr.Put(t.Context(), name, strings.NewReader(c.content), tree.PutOptions{Size: int64(len(c.content)), SizeKnown: true, Digest: c.told})
		if err != nil || e.Digest != c.want {
			t.Errorf("%s was put with %x, %v; want %x", name, e.Digest, err, c.want)
		}
		if err := tr.Rename(t.Context(), name, name+" again", false); err != nil {
			t.Fatal(err)
		}
		if e, err := tr.Stat(t.Context(), name+" again"); err != nil || e.Digest != c.want {
			t.Errorf("%s has %x after its rename, %v; want %x", name, e.Digest, err, c.want)
		}
	}
}

// testCopyOfAnother: where hashes are kept, a file is copied only while it is the one of a known hash.
func testCopyOfAnother(t *testing.T, tr tree.Tree) {
	a, ok := tr.(tree.Assembler)
	if !ok || tr.Capabilities().Digests == 0 {
		t.Skip("no hashes are kept here")
	}
	put(t, tr, "base", "one")
	assemble := func(of string) (tree.Entry, error) {
		return a.Assemble(t.Context(), "copy", "base", []chunk.Part{{Length: 3}}, nil, tree.PutOptions{Size: 3, SizeKnown: true, Digest: blake3.Sum256([]byte(of))})
	}
	_, err := assemble("two")
	wantError(t, "Assemble of another content", err, tree.ErrVersion)
	wantNames(t, tr, ".", "base")
	if e, err := assemble("one"); err != nil || e.Digest != blake3.Sum256([]byte("one")) {
		t.Errorf("a copy is %+v, %v", e, err)
	}
	_, err = assemble("one")
	wantError(t, "Assemble of a name that is taken", err, fs.ErrExist)
}

// testImpliedFolders: where folders are not real, they come and go with what is in them.
func testImpliedFolders(t *testing.T, tr tree.Tree) {
	if !tr.Capabilities().NoFolders {
		t.Skip("folders are real here")
	}
	put(t, tr, "beds/north/fern.txt", "fern")
	put(t, tr, "beds/south/rose.txt", "rose")
	if e, err := tr.Stat(t.Context(), "beds"); err != nil || e.Kind != tree.Folder {
		t.Errorf("the folder of a file: %+v, %v", e, err)
	}
	wantNames(t, tr, "beds", "north", "south")
	if err := tr.Rename(t.Context(), "beds/north/fern.txt", "beds/fern.txt", false); err != nil {
		t.Fatal(err)
	}
	wantNames(t, tr, "beds", "fern.txt", "south")
	for _, name := range []string{"beds/fern.txt", "beds/south/rose.txt"} {
		if err := tr.Remove(t.Context(), name); err != nil {
			t.Fatal(err)
		}
	}
	_, err := tr.Stat(t.Context(), "beds")
	wantError(t, "Stat of a folder without anything", err, fs.ErrNotExist)
}
