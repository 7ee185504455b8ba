package bucket_test

import (
	"bytes"
	"io"
	"math/rand/v2"
	"testing"

	"bridgespan/standin/standintest"
	"bridgespan/tree"
)

// The provider sends, and charges for, what is read, and no more.
func TestReadsWhatIsWanted(t *testing.T) {
	s := standintest.Cloud(t)
	target := s.Bucket(t)
	b := standintest.OpenBucket(t, target)
	const size = 9<<20 + 12345
	want := make([]byte, size)
	_, _ = rand.NewChaCha8([32]byte{1}).Read(want)
	e, err := b.Put(t.Context(), "scan.tif", bytes.NewReader(want), tree.PutOptions{Size: size, SizeKnown: true})
	if err != nil {
		t.Fatal(err)
	}
	opened := func() tree.Content {
		c, err := b.Open(t.Context(), "scan.tif")
		if err != nil || c.Entry().Size != size || c.Entry().Version != e.Version {
			t.Fatalf("opened as %+v, %v; want %+v", c.Entry(), err, e)
		}
		return c
	}
	inPieces := func(c tree.Content, from, to, piece int64) {
		t.Helper()
		for buffer := make([]byte, piece); from < to; from += piece {
			p := buffer[:min(piece, to-from)]
			if n, err := c.ReadAt(p, from); n < len(p) || !bytes.Equal(p, want[from:from+int64(n)]) {
				t.Fatalf("read %d of %d bytes at %d, %v", n, len(p), from, err)
			}
		}
	}
	for _, c := range []struct {
		what        string
		read        func(tree.Content)
		open        func() tree.Content
		least, most int64
	}{
		{"a whole file, several pieces at a time", func(c tree.Content) {
			r := tree.Stream(t.Context(), c, 0)
			defer r.Close()
			if got, err := io.ReadAll(r); err != nil || !bytes.Equal(got, want) {
				t.Errorf("%d bytes, %v", len(got), err)
			}
		}, opened, size, size},
		{"short pieces in order", func(c tree.Content) { inPieces(c, 0, size, 300<<10) }, opened, size, size},
		{"a part, to a told end", func(c tree.Content) { c.(interface{ Until(int64) }).Until(5 << 20); inPieces(c, 2<<20, 5<<20, 256<<10) }, func() tree.Content { return b.OpenVersion(t.Context(), "scan.tif", e) }, 3 << 20, 3 << 20},
		// It comes last: the service may still be sending when that was closed.
		{"the beginning", func(c tree.Content) { inPieces(c, 0, 100, 100) }, opened, 100, 1 << 20},
	} {
		before := s.Sent(t, target.Bucket)
		content := c.open()
		c.read(content)
		if err := content.Close(); err != nil {
			t.Error(err)
		}
		if got := s.Sent(t, target.Bucket) - before; got < c.least || got > c.most {
			t.Errorf("%s: %d bytes were sent, want %d to %d", c.what, got, c.least, c.most)
		}
	}
}
