package records_test

import (
	"bytes"
	"math/rand/v2"
	"reflect"
	"testing"

	"bridgespan/core/chunk"
	"bridgespan/records"
)

// listOf is what a content is made of that no other seed makes.
func listOf(t *testing.T, seed byte, size int) chunk.List {
	t.Helper()
	content := make([]byte, size)
	_, _ = rand.NewChaCha8([32]byte{seed}).Read(content)
	c, err := chunk.NewCutter(chunk.Around(1024))
	if err != nil {
		t.Fatal(err)
	}
	l, err := chunk.NewList(c, bytes.NewReader(content))
	if err != nil {
		t.Fatal(err)
	}
	return l
}

// Lists of chunks come back as they were kept. Of more than there is room for, those
// that were kept first go.
func testChunkLists(t *testing.T, db *records.DB) {
	ctx, s := t.Context(), db.Replication()
	if l, err := s.Chunks(ctx, chunk.Digest{1}); err != nil || l.Chunks != nil {
		t.Fatalf("of what was never kept: %+v, %v", l, err)
	}
	const many = 130
	lists := make([]chunk.List, many)
	form := 0
	for i := range lists {
		lists[i] = listOf(t, byte(i), 100_000)
		b, _ := lists[i].AppendBinary(nil)
		form = max(form, len(b))
	}
	s.MostLists = int64(form * 20)
	keep := func(l chunk.List) {
		t.Helper()
		if err := s.KeepChunks(ctx, l); err != nil {
			t.Fatal(err)
		}
	}
	there := func(i int) bool {
		t.Helper()
		l, err := s.Chunks(ctx, lists[i].Digest)
		if err != nil {
			t.Fatal(err)
		}
		if l.Chunks != nil && !reflect.DeepEqual(l, lists[i]) {
			t.Errorf("list %d comes back as another one", i)
		}
		return l.Chunks != nil
	}
	for i, l := range lists {
		keep(l)
		if i%8 == 7 { // the first one is kept again and again
			keep(lists[0])
		}
		if !there(i) {
			t.Errorf("list %d was not kept", i)
		}
	}
	left := 0
	for i := range lists {
		if there(i) {
			left++
		} else if i > many-20 {
			t.Errorf("list %d is gone, and older ones are there", i)
		}
	}
	if !there(0) || there(1) || left < 20 || left > 90 {
		t.Errorf("%d are left of room for 20; the one kept again: %v, the oldest: %v", left, there(0), there(1))
	}
}

// The database takes lists of very long contents; longer ones are not kept.
func testLongChunkLists(t *testing.T, db *records.DB) {
	ctx, s := t.Context(), db.Replication()
	for what, c := range map[string]struct {
		chunks int
		kept   bool
	}{
		"1.3 TB": {340_000, true},
		"1.5 TB": {370_000, false},
	} {
		l := chunk.List{Sizes: chunk.Around(4 << 20), Chunks: make([]chunk.Chunk, c.chunks), Digest: [32]byte{byte(c.chunks)}}
		for i := range l.Chunks {
			l.Chunks[i].Length = 4 << 20
			l.Size += 4 << 20
		}
		if err := s.KeepChunks(ctx, l); err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		got, err := s.Chunks(ctx, l.Digest)
		if err != nil || c.kept && !reflect.DeepEqual(got, l) || !c.kept && got.Chunks != nil {
			t.Errorf("%s: %d of %d chunks are kept, %v", what, len(got.Chunks), c.chunks, err)
		}
	}
}
