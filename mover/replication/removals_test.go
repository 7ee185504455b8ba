package replication

import (
	"fmt"
	"strings"
	"testing"

	"bridgespan/core/replica"
	"bridgespan/tree"
	"bridgespan/tree/memory"
	"bridgespan/tree/treetest"
)

// limited is a cloud of 30 files in two folders, of which no more than 40% may be removed at a replica at once.
type limited struct {
	*cloud
	told map[replica.ID]replica.Removals
}

func newLimited(t *testing.T) *limited {
	t.Helper()
	g := &limited{newCloud(t), map[replica.ID]replica.Removals{}}
	files := map[string]string{}
	for i := range 30 {
		files[fmt.Sprintf("beds/%d", i)] = fmt.Sprintf("bed %d", i)
		files[fmt.Sprintf("shed/%d", i)] = fmt.Sprintf("tool %d", i)
	}
	treetest.Files(t, g.bucket, g.clock, files)
	g.engine.RemovalsWait = func(id replica.ID, r replica.Removals) { g.told[id] = r }
	for _, r := range g.engine.Replicas {
		r.Removals.Percent = 40
	}
	g.settle()
	if n := g.count(g.whole) + g.count(g.stubs); n != 120 || len(g.told) > 0 {
		t.Fatalf("%d files were carried, and %v waits", n, g.told)
	}
	return g
}

// count counts the files of people.
func (g *limited) count(of *memory.Tree) (n int) {
	g.t.Helper()
	for _, folder := range []string{"beds", "shed", "store"} {
		for e, err := range of.List(g.t.Context(), folder, tree.Plain) {
			if err == nil && e.Kind == tree.File {
				n++
			}
		}
	}
	return n
}

// remove removes the first n files of beds, and the folder when it is empty.
func (g *limited) remove(at *memory.Tree, n int) {
	g.t.Helper()
	for i := range n {
		if err := at.Remove(g.t.Context(), fmt.Sprintf("beds/%d", i)); err != nil {
			g.t.Fatal(err)
		}
	}
	if e, err := at.Stat(g.t.Context(), "beds"); n == 30 && err == nil && e.Kind == tree.Folder {
		if err := at.Remove(g.t.Context(), "beds"); err != nil {
			g.t.Fatal(err)
		}
	}
}

// wantFiles compares how many files the bucket and its edges hold.
func (g *limited) wantFiles(what string, bucket, whole, stubs int) {
	g.t.Helper()
	if b, w, s := g.count(g.bucket), g.count(g.whole), g.count(g.stubs); b != bucket || w != whole || s != stubs {
		g.t.Errorf("%s: %d, %d and %d files, want %d, %d and %d", what, b, w, s, bucket, whole, stubs)
	}
}

func (g *limited) wantWaiting(of replica.ID, files int64) {
	g.t.Helper()
	if got := g.told[of]; got.Files != files || files > 0 && (got.Bytes == 0 || len(got.Examples) == 0 || !strings.HasPrefix(got.Examples[0], "beds/") || got.Of < 60) {
		g.t.Errorf("%+v waits, want %d files", got, files)
	}
}

// More removals than the limit reach nobody until somebody says so.
func TestRemovalsWait(t *testing.T) {
	for what, n := range map[string]int{"files": 28, "a folder": 30} {
		t.Run(what, func(t *testing.T) {
			g := newLimited(t)
			g.remove(g.whole, n)
			g.settle()
			g.wantFiles("removed at an edge", 60, 60-n, 60)
			g.wantWaiting(2, int64(n))
			g.put(g.bucket, "shed/0", "a new tool") // other changes are carried
			g.settle()
			g.want(g.whole, "shed/0", "a new tool", tree.Whole)
			g.engine.Decide(2, replica.Apply)
			g.settle()
			g.wantFiles("applied", 60-n, 60-n, 60-n)
			g.wantWaiting(2, 0)
		})
	}
}

func TestRemovedFilesComeBack(t *testing.T) {
	g := newLimited(t)
	g.remove(g.whole, 30)
	g.settle()
	g.engine.Decide(2, replica.Restore)
	g.settle()
	g.wantFiles("restored at an edge", 60, 60, 60)
	g.wantWaiting(2, 0)
	g.want(g.whole, "beds/7", "bed 7", tree.Whole)

	g.remove(g.bucket, 30)
	g.settle()
	g.wantFiles("removed in the bucket", 30, 60, 60)
	g.wantWaiting(1, 30)
	g.engine.Decide(1, replica.Restore)
	g.settle()
	g.wantFiles("restored in the bucket", 60, 60, 60)
}

// Up to the limit, and in time, files are removed as ever; so are those that people put back, or moved.
func TestRemovalsThatNeedNoDecision(t *testing.T) {
	g := newLimited(t)
	g.remove(g.whole, 24)
	g.settle()
	g.wantFiles("up to the limit", 36, 36, 36)
	if len(g.told) > 0 {
		t.Errorf("%v waits", g.told)
	}

	g = newLimited(t)
	if err := g.whole.Rename(t.Context(), "beds", "store", false); err != nil {
		t.Fatal(err)
	}
	g.settle()
	g.wantFiles("moved", 60, 60, 60)
	g.want(g.bucket, "beds/7", "", tree.Whole)
	g.want(g.bucket, "store/7", "bed 7", tree.Whole)

	g = newLimited(t)
	g.remove(g.whole, 30)
	g.settle()
	g.wantWaiting(2, 30)
	if err := g.whole.Mkdir(t.Context(), "beds"); err != nil {
		t.Fatal(err)
	}
	for i := range 30 {
		g.put(g.whole, fmt.Sprintf("beds/%d", i), "put back")
	}
	g.settle()
	g.wantWaiting(2, 0)
	g.wantFiles("put back", 60, 60, 60)
}

// Removals that cannot be recorded yet, since a lane is at work at their paths, are counted once, however often they are found.
func TestRemovalsAreCountedOnce(t *testing.T) {
	g := newLimited(t)
	r := g.engine.replica(2)
	h := g.engine.newHold()
	for i := range 10 {
		if !h.change(r, fmt.Sprintf("beds/%d", i)) {
			t.Fatalf("beds/%d is not free", i)
		}
	}
	g.remove(g.whole, 10)
	for range 5 {
		if _, err := g.engine.Scan(t.Context(), 2); err != nil {
			t.Fatal(err)
		}
	}
	h.release()
	g.settle()
	g.wantFiles("removed", 50, 50, 50)
	if len(g.told) > 0 {
		t.Errorf("%v waits", g.told)
	}
}

// What a look at a part finds too much, as far as it knows, is judged anew by one at all.
func TestRemovalsFoundInPart(t *testing.T) {
	g := newLimited(t)
	g.engine.Replicas[1].Entries = 0 // as after a restart before the first fill was counted
	g.remove(g.whole, 23)
	if _, err := g.engine.PartialScan(t.Context(), 2, []string{"beds"}); err != nil {
		t.Fatal(err)
	}
	if w := g.told[2]; w.Files != 23 || w.Of != 0 {
		t.Errorf("%+v waits after a look at a part", w)
	}
	g.settle()
	g.wantFiles("less than the limit of all", 37, 37, 37)
	g.wantWaiting(2, 0)
}

// A folder that is gone with its files is not noted by who meets it on another errand; nor is one while others wait.
func TestLanesDoNotDecide(t *testing.T) {
	g := newLimited(t)
	g.remove(g.whole, 30)
	g.put(g.bucket, "beds/new", "a new bed")
	if _, err := g.engine.Scan(t.Context(), 1); err != nil {
		t.Fatal(err)
	}
	if _, err := g.engine.Carry(t.Context(), replica.Lane{From: 1, To: 2}, 100); err != nil {
		t.Fatal(err)
	}
	if _, err := g.engine.Carry(t.Context(), replica.Lane{From: 2, To: 1}, 100); err != nil {
		t.Fatal(err)
	}
	g.wantFiles("met by a lane", 61, 30, 60)
	g.settle()
	g.wantWaiting(2, 30)
	if _, err := g.engine.PartialScan(t.Context(), 2, []string{"."}); err != nil {
		t.Fatal(err)
	}
	g.settle()
	g.wantFiles("while it waits", 61, 30, 61)
}

// After its first fill, a replica is known to have what it was filled from has, though its next scan may be hours away.
func TestEntriesOfFilled(t *testing.T) {
	g := newCloud(t)
	files := map[string]string{}
	for i := range 30 {
		files[fmt.Sprintf("beds/%d", i)] = "a bed"
	}
	treetest.Files(t, g.bucket, g.clock, files)
	for id := range replica.ID(2) {
		if _, err := g.engine.Scan(t.Context(), id+1); err != nil {
			t.Fatal(err)
		}
	}
	if n := g.engine.Entries(2); n != 0 {
		t.Errorf("an empty folder has %d", n)
	}
	for filled := false; !filled; _, filled = g.engine.State(2) {
		if done, err := g.engine.Carry(t.Context(), replica.Lane{From: 1, To: 2}, 100); err != nil || done.Done == 0 {
			t.Fatal(done, err)
		}
	}
	if n := g.engine.Entries(2); n < 30 {
		t.Errorf("after the first fill it has %d", n)
	}
}
