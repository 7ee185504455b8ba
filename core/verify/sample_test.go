package verify

import (
	"crypto/sha256"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

func TestAtMost(t *testing.T) {
	for _, c := range []struct {
		sampled, differ, all int64
		want                 float64
	}{
		{0, 0, 100, 1},
		{299, 0, 1_000_000, 0.00997}, // the rule of three: about 3 of 299
		{59, 0, 1_000_000, 0.0495},
		{100, 1, 1_000_000, 0.0466},
		{100, 5, 1_000_000, 0.1023},
		{10, 10, 1_000, 1},
		{50, 0, 50, 0},
		{50, 5, 50, 0.1},
	} {
		if got := AtMost(c.sampled, c.differ, c.all); math.Abs(got-c.want) > 0.0005 {
			t.Errorf("%d of %d, of %d: at most %.4f, want %.4f", c.differ, c.sampled, c.all, got, c.want)
		}
	}
}

// The program that manifests are for accepts ours.
func TestManifest(t *testing.T) {
	dir, text := t.TempDir(), ""
	for _, name := range []string{"plain.txt", "two  spaces", `back\slash`, "line\nbreak", "ümlaut", "*star"} {
		content := []byte("content of " + name)
		if err := os.WriteFile(filepath.Join(dir, name), content, 0o600); err != nil {
			t.Fatal(err)
		}
		text += ManifestLine(sha256.Sum256(content), name)
	}
	if err := os.WriteFile(filepath.Join(dir, "manifest"), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	check := func() error {
		c := exec.Command("sha256sum", "-c", "--strict", "manifest")
		c.Dir = dir
		return c.Run()
	}
	if err := check(); err != nil {
		t.Errorf("sha256sum refuses\n%s", text)
	}
	if err := os.WriteFile(filepath.Join(dir, `back\slash`), []byte("other"), 0o600); err != nil {
		t.Fatal(err)
	}
	if check() == nil {
		t.Error("sha256sum does not find a file that differs")
	}
}
