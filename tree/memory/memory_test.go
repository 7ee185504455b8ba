package memory_test

import (
	"errors"
	"strings"
	"testing"

	"bridgespan/tree"
	"bridgespan/tree/memory"
	"bridgespan/tree/treetest"
)

func TestConformance(t *testing.T) {
	t.Run("FoldsCase", func(t *testing.T) {
		treetest.Run(t, func(*testing.T) tree.Tree { return new(memory.Tree) })
	})
	t.Run("CaseSensitive", func(t *testing.T) {
		treetest.Run(t, func(*testing.T) tree.Tree { return &memory.Tree{CaseSensitive: true} })
	})
	t.Run("Objects", func(t *testing.T) {
		treetest.Run(t, func(*testing.T) tree.Tree { return &memory.Tree{Objects: true, CaseSensitive: true} })
	})
}

// Whatever step of a replacement fails, the file is as before.
func TestFaultsLeaveTheFileWhole(t *testing.T) {
	broken := errors.New("bad sector")
	for _, step := range []string{"stage", "write", "flush", "commit"} {
		tr := new(memory.Tree)
		if _, err := tr.Put(t.Context(), "f", strings.NewReader("before"), tree.PutOptions{}); err != nil {
			t.Fatal(err)
		}
		tr.Fault = func(s, _ string) error {
			if s == step {
				return broken
			}
			return nil
		}
		if _, err := tr.Put(t.Context(), "f", strings.NewReader("after"), tree.PutOptions{Replace: true}); !errors.Is(err, broken) {
			t.Errorf("%s: error %v, want %v", step, err, broken)
		}
		tr.Fault = nil
		if got, err := tree.ReadFile(t.Context(), tr, "f"); err != nil || string(got) != "before" {
			t.Errorf("%s: content %q, %v", step, got, err)
		}
	}
}

func TestCapacity(t *testing.T) {
	tr := &memory.Tree{Capacity: 10}
	if _, err := tr.Put(t.Context(), "a", strings.NewReader("123456"), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	if _, err := tr.Put(t.Context(), "b", strings.NewReader("123456"), tree.PutOptions{}); !errors.Is(err, tree.ErrNoSpace) {
		t.Errorf("error %v, want ErrNoSpace", err)
	}
	if _, err := tr.Put(t.Context(), "a", strings.NewReader("1234567890"), tree.PutOptions{Replace: true}); err != nil {
		t.Errorf("a replacement that fits: %v", err)
	}
}
