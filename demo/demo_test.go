package demo

import (
	"crypto/sha256"
	"io"
	"path"
	"testing"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/tree"
)

// The data follows from its seed alone, and every file has its size.
func TestFilesAreTheSameEverywhere(t *testing.T) {
	for share := range shareRights {
		sum := func() (string, int) {
			h := sha256.New()
			files := filesOf(share, "small")
			for _, f := range files {
				n, err := io.Copy(h, f.content())
				if err != nil || n != f.size {
					t.Errorf("%s: %d bytes of %d, %v", f.path, n, f.size, err)
				}
				io.WriteString(h, f.path+f.modified.String())
			}
			return string(h.Sum(nil)), len(files)
		}
		a, n := sum()
		if b, _ := sum(); a != b {
			t.Errorf("%s differs from one making to the next", share)
		}
		if n == 0 && share != "arrivals" && share != whole.Name {
			t.Errorf("%s is empty", share)
		}
	}
}

func TestFilesAreAllowedAndNew(t *testing.T) {
	for share := range shareRights {
		seen := map[string]bool{}
		for _, f := range filesOf(share, "default") {
			if err := tree.CheckName("put", f.path); err != nil {
				t.Error(err)
			}
			if f.modified.After(now) {
				t.Errorf("%s is from the future: %s", f.path, f.modified)
			}
			key := tree.Key(f.path, false)
			if seen[key] {
				continue // written again over itself: the later content stands
			}
			seen[key] = true
		}
		for folder := range restricted[share] {
			found := false
			for name := range seen {
				found = found || path.Dir(name) == tree.Key(folder, false)
			}
			if !found {
				t.Errorf("%s has no folder %s to restrict", share, folder)
			}
		}
	}
}

func TestScenarioHangsTogether(t *testing.T) {
	shares := map[string]bool{}
	for _, s := range servers {
		for _, h := range s.shares {
			shares[s.name+"/"+h.Name] = true
			if d, err := s.descriptor(h.Name, nil); err != nil || d.IsZero() {
				t.Errorf("%s/%s: %v", s.name, h.Name, err)
			}
		}
	}
	for _, e := range entries {
		if err := namespace.CheckPath("path", e.path); err != nil {
			t.Error(err)
		}
		for _, l := range e.locations {
			if !shares[l.Server+"/"+l.Share] {
				t.Errorf("%s leads to %s/%s, which is not there", e.path, l.Server, l.Share)
			}
		}
	}
	if fault.KindOf(CheckSize("huge")) != fault.Invalid {
		t.Error("a size that is not there is accepted")
	}
}
