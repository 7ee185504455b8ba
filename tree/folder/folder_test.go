package folder_test

import (
	"os"
	"path/filepath"
	"testing"

	"bridgespan/tree"
	"bridgespan/tree/folder"
	"bridgespan/tree/treetest"
)

func open(t *testing.T, dir string) tree.Tree {
	t.Helper()
	tr, err := folder.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { tr.Close() })
	return tr
}

func TestConformance(t *testing.T) {
	treetest.Run(t, func(t *testing.T) tree.Tree { return open(t, t.TempDir()) })
}

// A link that leads out of the root leads nowhere.
func TestLinksStayInside(t *testing.T) {
	outside, dir := t.TempDir(), t.TempDir()
	if err := os.WriteFile(filepath.Join(outside, "secret"), []byte("secret"), 0o600); err != nil {
		t.Fatal(err)
	}
	for name, target := range map[string]string{"absolute": outside, "relative": "../" + filepath.Base(outside)} {
		if err := os.Symlink(target, filepath.Join(dir, name)); err != nil {
			t.Fatal(err)
		}
	}
	tr := open(t, dir)
	for _, name := range []string{"absolute", "relative"} {
		if e, err := tr.Stat(t.Context(), name); err != nil || e.Kind != tree.Link {
			t.Errorf("Stat(%s) = %+v, %v; want a link", name, e, err)
		}
		if _, err := tree.ReadFile(t.Context(), tr, name+"/secret"); err == nil {
			t.Errorf("read out of the root through %s", name)
		}
		if err := tr.Mkdir(t.Context(), name+"/made"); err == nil {
			t.Errorf("made a folder outside the root through %s", name)
		}
	}
	if entries, _ := os.ReadDir(outside); len(entries) != 1 {
		t.Errorf("outside now holds %v", entries)
	}
}
