package folder_test

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"bridgespan/core/acl"
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

func TestReadBack(t *testing.T) {
	dir := t.TempDir()
	treetest.ReadBack(t, open(t, dir), dir)
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

// In a folder that a host's programs share, what comes in belongs to whom its
// folder, or what it replaces, belongs to; what has no descriptor is handed one.
func TestShared(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root may give files away")
	}
	dir := t.TempDir()
	tr, err := folder.OpenShared(dir, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer tr.Close()
	ctx := t.Context()
	for _, name := range []string{".bspan", ".bspan/intake", "beds"} {
		if err := tr.Mkdir(ctx, name); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chown(filepath.Join(dir, "beds"), 1234, 2345); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(filepath.Join(dir, "beds"), 0o750); err != nil {
		t.Fatal(err)
	}
	want := func(name string, mode os.FileMode, uid uint32) {
		t.Helper()
		info, err := os.Stat(filepath.Join(dir, name))
		if err != nil || info.Mode().Perm() != mode || info.Sys().(*syscall.Stat_t).Uid != uid {
			t.Errorf("%s: %v, %v; want %v of %d", name, info, err, mode, uid)
		}
	}
	stage := func(name string) {
		t.Helper()
		if _, err := tree.Stage(ctx, tr, name, strings.NewReader("x"), tree.PutOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	stage(".bspan/intake/1")
	if err := tr.Rename(ctx, ".bspan/intake/1", "beds/new", false); err != nil {
		t.Fatal(err)
	}
	want("beds/new", 0o640, 1234)
	if err := os.Chmod(filepath.Join(dir, "beds/new"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Chown(filepath.Join(dir, "beds/new"), 77, 77); err != nil {
		t.Fatal(err)
	}
	stage(".bspan/intake/2")
	if err := tr.Exchange(ctx, ".bspan/intake/2", "beds/new"); err != nil {
		t.Fatal(err)
	}
	want("beds/new", 0o755, 77)
	if err := tr.Mkdir(ctx, "beds/inner"); err != nil {
		t.Fatal(err)
	}
	want("beds/inner", 0o750, 1234)
	for _, name := range []string{".bspan/intake/3", ".bspan/intake/3/deep"} {
		if err := tr.Mkdir(ctx, name); err != nil {
			t.Fatal(err)
		}
	}
	stage(".bspan/intake/3/a")
	stage(".bspan/intake/3/deep/b")
	if err := tr.Rename(ctx, ".bspan/intake/3", "beds/whole", false); err != nil {
		t.Fatal(err)
	}
	for name, mode := range map[string]os.FileMode{"": 0o750, "/a": 0o640, "/deep": 0o750, "/deep/b": 0o640} {
		want("beds/whole"+name, mode, 1234)
	}
}

// What has no descriptor of its own is told to have what its folder hands down.
func TestHanded(t *testing.T) {
	dir := t.TempDir()
	tr := open(t, dir)
	ctx := t.Context()
	if err := os.MkdirAll(filepath.Join(dir, "beds/inner"), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"top", "beds/file", "beds/inner/deep"} {
		if err := os.WriteFile(filepath.Join(dir, name), nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	given, err := acl.Parse("O:BAG:BAD:P(A;OICI;FA;;;BA)(A;OI;FR;;;WD)(A;CI;0x1200a9;;;AU)")
	if err != nil {
		t.Fatal(err)
	}
	if err := tr.Apply(ctx, "beds", tree.Meta{Descriptor: given}); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"top": "", "beds/file": "O:BAG:BAD:AI(A;ID;FA;;;BA)(A;ID;FR;;;WD)", "beds/inner/deep": "O:BAG:BAD:AI(A;ID;FA;;;BA)(A;ID;FR;;;WD)",
		"beds/inner": "O:BAG:BAD:AI(A;OICIID;FA;;;BA)(A;OICIIOID;FR;;;WD)(A;CIID;0x1200a9;;;AU)"} {
		d, err := tr.Descriptor(ctx, name)
		if err != nil || !d.IsZero() != (want != "") {
			t.Errorf("%s has %v, %v; want %q", name, d, err, want)
			continue
		}
		if want != "" {
			wanted, err := acl.Parse(want)
			if err != nil || len(acl.Compare(d.Parts(), wanted.Parts())) > 0 {
				t.Errorf("%s has %v, want %v, %v", name, d, want, err)
			}
		}
		for e, err := range tr.List(ctx, filepath.Dir(name), tree.WithDescriptors) {
			if err != nil {
				t.Fatal(err)
			}
			if e.Name == filepath.Base(name) && (e.Descriptor != d || e.Handed != (name != "beds")) {
				t.Errorf("%s is listed as %+v, and has %v", name, e, d)
			}
		}
	}
}
