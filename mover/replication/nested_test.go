package replication

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"bridgespan/tree/folder"
)

// A folder that lies in the other replica is not filled with itself: the scan that meets
// its mark ends, and nothing is carried until it is gone.
func TestReplicaWithinReplica(t *testing.T) {
	dir := t.TempDir()
	open := func(dir string) *folder.Tree {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			t.Fatal(err)
		}
		f, err := folder.Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { f.Close() })
		return f
	}
	outer, inner := open(dir), open(filepath.Join(dir, "inner"))
	put(t, outer, "file", "text")
	put(t, outer, "inner/own", "text")
	p := newPair(t, outer, inner)
	p.Trouble = func(Trouble) {}
	stopped := 0
	for range 6 {
		for _, r := range p.Replicas {
			if _, err := p.Scan(t.Context(), r.ID); errors.Is(err, ErrNotReplica) {
				stopped++
			} else if err != nil {
				t.Fatal(err)
			}
		}
		for _, l := range p.Lanes {
			if _, err := p.Carry(t.Context(), l, 1000); errors.Is(err, ErrNotReplica) {
				stopped++
			} else if err != nil {
				t.Fatal(err)
			}
		}
	}
	if stopped < 10 {
		t.Errorf("it was stopped %d times", stopped)
	}
	if _, err := outer.Stat(t.Context(), "inner/inner/inner"); !absent(err) {
		t.Errorf("it was filled with itself: %v", err)
	}
	// When the inner one is none any more, work goes on.
	if err := inner.Remove(t.Context(), MarkFile); err != nil {
		t.Fatal(err)
	}
	if _, err := p.Scan(t.Context(), 1); err != nil {
		t.Errorf("without the mark: %v", err)
	}
	if _, err := p.Carry(t.Context(), p.Lanes[0], 1000); !errors.Is(err, ErrNotReplica) { // the other end has lost its mark
		t.Errorf("to what has no mark: %v", err)
	}
}
