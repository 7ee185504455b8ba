package pack

import (
	"path/filepath"
	"slices"
	"testing"

	"bridgespan/core/dedup"
)

// Chunks are told by how often files have them, with some of these files.
func TestChunks(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "store")
	fill(t, dir, dedup.DiskImages)
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	all, err := s.Chunks(1 << 20)
	if err != nil || len(all) != len(s.index) {
		t.Fatalf("%d of %d chunks, %v", len(all), len(s.index), err)
	}
	if !slices.IsSortedFunc(all, func(a, b dedup.StoredChunk) int { return int(b.Refs - a.Refs) }) {
		t.Error("what occurs more does not come first")
	}
	var refs int64
	for _, c := range all {
		if refs += c.Refs; c.Refs == 0 || len(c.Paths) == 0 || len(c.Fingerprint) != 64 || c.Packed > c.Length {
			t.Errorf("%+v", c)
		}
	}
	whole, err := s.Inspect()
	if err != nil || refs != whole.Refs {
		t.Errorf("%d references, not %d: %v", refs, whole.Refs, err)
	}
	// Most often there are blocks of zeros; a block of the scan is in each of its copies.
	if first := all[0]; first.Refs != 500_000/int64(first.Length) || !slices.Equal(first.Paths, []string{"zeros.img"}) {
		t.Errorf("most often there is %+v", first)
	}
	three := slices.IndexFunc(all, func(c dedup.StoredChunk) bool { return c.Refs == 3 })
	if three < 0 || len(all[three].Paths) != 3 {
		t.Error("no chunk is in all three versions of the scan")
	}
	if few, err := s.Chunks(2); err != nil || len(few) != 2 || few[1].Number != all[1].Number {
		t.Errorf("two chunks are %+v, %v", few, err)
	}
}
