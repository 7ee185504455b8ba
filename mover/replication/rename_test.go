package replication

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"bridgespan/core/replica"
	"bridgespan/tree"
	"bridgespan/tree/folder"
	"bridgespan/tree/memory"
)

// moves are what people do with files and folders without changing a byte, and the
// folders in which that shows.
var moves = []struct{ from, to, shows string }{
	{"beds/rose.txt", "beds/climbing rose.txt", "beds"},
	{"beds/rose.txt", "shed/rose.txt", "beds shed"},
	{"shed/rake.txt", "beds/rake.txt", "shed beds"},
	{"beds", "borders", "."},
	{"beds", "zones", "."},
	{"beds/row", "row", "beds ."},
	{"shed", "beds/shed", ". beds"},
	{"beds/row/deep", "shed/deep", "beds/row shed"},
}

func plantGarden(t *testing.T, tr tree.Tree) {
	for _, folder := range []string{"beds", "beds/row", "beds/row/deep", "shed"} {
		for i := range 3 {
			put(t, tr, fmt.Sprintf("%s/plant %d.txt", folder, i), folder+fmt.Sprint(i))
		}
	}
	put(t, tr, "beds/rose.txt", "a rose")
	put(t, tr, "shed/rake.txt", "a rake")
}

// newGarden is a pair that has settled down, of which people have moved nothing yet.
// mostAbsent is a bound of the engine, 0 for the usual.
func newGarden(t *testing.T, a tree.Tree, mostAbsent int) *pair {
	t.Helper()
	plantGarden(t, a)
	p := newPair(t, a, new(memory.Tree))
	p.mostAbsent = mostAbsent
	p.settleDown()
	return p
}

// broughtNothing settles down, and has nothing come of that but renames.
func (p *pair) broughtNothing() {
	p.t.Helper()
	if carried := p.settleDown(); carried.Files != 0 {
		p.t.Errorf("%d files were brought", carried.Files)
	}
	p.same()
	if kept := inAttic(p.t, p.b); len(kept) != 0 {
		p.t.Errorf("the attic holds %q", kept)
	}
}

// What is renamed, or moved to another folder, brings nothing and leaves nothing in an
// attic, whether a scan or a partial scan of the folders finds it.
func TestWhatIsMovedBringsNothing(t *testing.T) {
	for _, m := range moves {
		for _, partialScan := range []bool{false, true} {
			t.Run(fmt.Sprint(m.from, " to ", m.to, ", by a partial scan: ", partialScan), func(t *testing.T) {
				p := newGarden(t, new(memory.Tree), 0)
				if err := p.a.Rename(t.Context(), m.from, m.to, false); err != nil {
					t.Fatal(err)
				}
				if partialScan {
					if _, err := p.PartialScan(t.Context(), 1, strings.Fields(m.shows)); err != nil {
						t.Fatal(err)
					}
					carried, err := p.Carry(t.Context(), p.Lanes[0], 1000)
					if err != nil || carried.Files != 0 || carried.Postponed != 0 {
						t.Errorf("after the partial scan %+v was carried, %v", carried, err)
					}
				}
				p.broughtNothing()
			})
		}
	}
}

// What was renamed is carried before the scan has noted that it is not at its old path any
// more: a scan of much comes to that late.
func TestRenamesDoNotWaitForTheScan(t *testing.T) {
	p := newGarden(t, new(memory.Tree), 0)
	if err := p.a.Rename(t.Context(), "beds", "borders", false); err != nil {
		t.Fatal(err)
	}
	s := p.newScan(1)
	if err := s.folder(t.Context(), someFolder{name: ".", key: "."}); err != nil {
		t.Fatal(err)
	}
	carried, err := p.Carry(t.Context(), p.Lanes[0], 1000)
	if err != nil || carried.Files != 0 || carried.Failed != 0 || carried.Postponed != 0 {
		t.Errorf("before the scan ends %+v is carried, %v", carried, err)
	}
	if _, err := p.b.Stat(t.Context(), "borders/rose.txt"); err != nil {
		t.Error(err)
	}
	if err := s.gone(t.Context()); err != nil {
		t.Fatal(err)
	}
	p.broughtNothing()
}

// A file that has the number, the length and the time of one that is gone from another
// folder, and another name, is not that one: numbers are used again.
func TestNumbersThatAreUsedAgain(t *testing.T) {
	dir := t.TempDir()
	a, err := folder.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { a.Close() })
	p := newGarden(t, a, 0)
	from, to := filepath.Join(dir, "beds/rose.txt"), filepath.Join(dir, "shed/hoe.txt")
	was, err := os.Stat(from)
	if err == nil {
		err = os.Rename(from, to)
	}
	if err == nil {
		err = os.WriteFile(to, []byte("hoe no"), 0o666) // as long as a rose
	}
	if err == nil {
		err = os.Chtimes(to, was.ModTime(), was.ModTime())
	}
	if err != nil {
		t.Fatal(err)
	}
	p.settleDown()
	p.same()
}

// Where much is gone, it is noted before all was looked at: what was moved is brought
// anew then, and nothing is lost.
func TestMuchThatIsGone(t *testing.T) {
	for _, m := range moves {
		t.Run(m.from+" to "+m.to, func(t *testing.T) {
			p := newGarden(t, new(memory.Tree), 1)
			if err := p.a.Rename(t.Context(), m.from, m.to, false); err != nil {
				t.Fatal(err)
			}
			p.settleDown()
			p.same()
		})
	}
}

// What is gone is noted by the look that misses it, much or little.
func TestWhatIsGoneIsNoted(t *testing.T) {
	for _, most := range []int{0, 1, 3, 1000} {
		p := newGarden(t, new(memory.Tree), most)
		for _, name := range []string{"beds/row/plant 0.txt", "beds/row/plant 1.txt", "beds/plant 0.txt", "shed"} {
			if err := tree.RemoveAll(t.Context(), p.a, name); err != nil {
				t.Fatal(err)
			}
		}
		found, err := p.Scan(t.Context(), 1)
		if err != nil || found.Changed != 4 || found.Busy != 0 { // what was in the folder goes with it
			t.Errorf("with a bound of %d the look found %+v, %v", most, found, err)
		}
		for _, key := range []string{"beds/row/plant 0.txt", "beds/row/plant 1.txt", "beds/plant 0.txt", "shed", "shed/rake.txt"} {
			if rec, err := p.get(t.Context(), p.Replicas[0], key); err != nil || rec.Kind != replica.None {
				t.Errorf("with a bound of %d, %s is a %s, %v", most, key, rec.Kind, err)
			}
		}
		p.settleDown()
		p.same()
	}
}
