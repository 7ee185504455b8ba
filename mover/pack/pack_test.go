package pack

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"bridgespan/core/dedup"
)

func noise(seed byte, size int) []byte {
	b := make([]byte, size)
	_, _ = rand.NewChaCha8([32]byte{seed}).Read(b)
	return b
}

// contents are files with something in common.
func contents() map[string][]byte {
	scan := noise(1, 700_000)
	return map[string][]byte{
		"scans/rose.tif": scan, "scans/rose (copy).tif": scan, "scans/edited.tif": slices.Concat(scan[:300_000], []byte("a line"), scan[300_000:]),
		"notes.txt": bytes.Repeat([]byte("in flower on the north bed\n"), 20_000), "nothing": nil, "zeros.img": make([]byte, 500_000),
	}
}

func fill(t *testing.T, dir string, profile dedup.Profile) {
	t.Helper()
	w, err := Create(dir, profile)
	if err != nil {
		t.Fatal(err)
	}
	for name, content := range contents() {
		if n, err := w.Add(name, 42, bytes.NewReader(content)); err != nil || n != int64(len(content)) {
			t.Fatal(n, err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
}

// What goes in comes out, and takes what an estimate says, to the byte.
func TestProof(t *testing.T) {
	for _, profile := range dedup.Profiles {
		dir := filepath.Join(t.TempDir(), "store")
		fill(t, dir, profile)
		s, err := Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		left := contents()
		err = s.Files(func(k Kept) error {
			var out bytes.Buffer
			if err := s.Restore(k, &out); err != nil {
				return err
			}
			if want, ok := left[k.Path]; !ok || !bytes.Equal(out.Bytes(), want) || k.Modified != 42 {
				t.Errorf("%s: %q comes out with %d bytes", profile, k.Path, out.Len())
			}
			delete(left, k.Path)
			return nil
		})
		if err != nil || len(left) > 0 {
			t.Errorf("%s: %v, %d files are missing", profile, err, len(left))
		}
		size, err := Size(dir)
		if err != nil {
			t.Fatal(err)
		}
		format, _ := os.Stat(filepath.Join(dir, formatFile))
		if want := foretold(t, profile) + format.Size() + dedup.FileCost + int64(len("nothing")); size != want {
			t.Errorf("%s: it takes %d bytes, foretold %d", profile, size, want)
		}
		i, err := s.Inspect()
		if err != nil || i.Files != 6 || i.Stored != size || i.ChunkSize > i.Bytes || i.Refs <= i.Chunks || i.Shared[1].Chunks == 0 {
			t.Errorf("%s: %+v, %v", profile, i, err)
		}
	}
}

// foretold is what an estimate says that the files take.
func foretold(t *testing.T, profile dedup.Profile) int64 {
	t.Helper()
	policy := dedup.Policy{Profile: profile, Compression: dedup.OfAll}
	e, err := dedup.NewEstimator(policy, 64<<20, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	c, _ := dedup.NewCutter(profile)
	packer, err := NewPacker()
	if err != nil {
		t.Fatal(err)
	}
	r := dedup.NewReader(c, dedup.OfAll, 0, func(chunk []byte) int { return len(packer.Pack(chunk)) })
	for name, content := range contents() {
		s, err := r.Read(bytes.NewReader(content), nil)
		if err != nil {
			t.Fatal(err)
		}
		e.Count(&dedup.File{Path: name, Inside: name, Size: int64(len(content)), Modified: time.Now().AddDate(-1, 0, 0), Summary: s})
	}
	if err := e.Settle(); err != nil {
		t.Fatal(err)
	}
	f := e.Totals()
	return f.InPolicy.Bytes - f.Saving.Bytes
}

// Whatever is broken in a store is told, and never comes out.
func TestBroken(t *testing.T) {
	for name, harm := range map[string]func(dir string) error{
		"format": func(dir string) error {
			return os.WriteFile(filepath.Join(dir, formatFile), []byte("something else"), 0o600)
		},
		"index cut":    func(dir string) error { return os.Truncate(filepath.Join(dir, indexFile), 100) },
		"index absent": func(dir string) error { return os.Remove(filepath.Join(dir, indexFile)) },
		"files cut":    func(dir string) error { return os.Truncate(filepath.Join(dir, filesFile), 70) },
		"packs cut":    func(dir string) error { return os.Truncate(filepath.Join(dir, packsFile), 5000) },
		"packs":        func(dir string) error { return flip(filepath.Join(dir, packsFile), 100) },
		"fingerprint":  func(dir string) error { return flip(filepath.Join(dir, packsFile), 3) },
		"a digest":     func(dir string) error { return flip(filepath.Join(dir, filesFile), 20) },
	} {
		dir := filepath.Join(t.TempDir(), "store")
		fill(t, dir, dedup.Documents)
		if err := harm(dir); err != nil {
			t.Fatal(err)
		}
		if err := readAll(dir); !errors.Is(err, ErrStore) && !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("%s: %v", name, err)
		}
	}
	dir := filepath.Join(t.TempDir(), "store")
	fill(t, dir, dedup.Documents)
	if _, err := Create(dir, dedup.Documents); !errors.Is(err, fs.ErrExist) {
		t.Errorf("a folder that is there is taken: %v", err)
	}
}

func flip(name string, at int) error {
	b, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	b[at] ^= 0x10
	return os.WriteFile(name, b, 0o600)
}

func readAll(dir string) error {
	s, err := Open(dir)
	if err != nil {
		return err
	}
	defer s.Close()
	return s.Files(func(k Kept) error {
		var out bytes.Buffer
		if err := s.Restore(k, &out); err != nil {
			return err
		}
		if want := contents()[k.Path]; !bytes.Equal(out.Bytes(), want) {
			return fmt.Errorf("%q comes out otherwise", k.Path)
		}
		return nil
	})
}
