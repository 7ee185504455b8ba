package replication

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"bridgespan/core/replica"
)

func TestClaims(t *testing.T) {
	e := &Engine{}
	r, other := &Replica{ID: 1}, &Replica{ID: 2}
	first, second, third := e.newHold(), e.newHold(), e.newHold()
	for i, step := range []struct {
		got, want bool
	}{
		{first.rely(r, "a"), true},
		{second.rely(r, "a"), true},   // many may
		{first.change(r, "a"), false}, // while another one relies on it
		{third.change(r, "a"), false},
		{third.change(other, "a"), true}, // it is another path
		{first.change(r, "b"), true},
		{first.rely(r, "b"), true}, // who may change it relies on it too
		{second.rely(r, "b"), false},
		{second.change(r, "b"), false},
	} {
		if step.got != step.want {
			t.Errorf("step %d: claimed: %v, want %v", i, step.got, step.want)
		}
	}
	second.release()
	if !first.change(r, "a") || second.rely(r, "a") {
		t.Error("who alone relies on a path may change it, and then nobody else may rely on it")
	}
	first.release()
	if !second.change(r, "a") || !second.change(r, "b") {
		t.Error("what was given back is still taken")
	}
	second.release()
	third.release()
	if n := len(e.claims.held); n != 0 {
		t.Errorf("%d claims are left when all was given back", n)
	}
}

// However many paths are claimed, and in whatever order, it is as a plain list of who
// holds what would have it.
func TestManyClaims(t *testing.T) {
	random := rand.New(rand.NewPCG(7, 8))
	e := &Engine{}
	type key struct {
		hold int
		key  string
	}
	model := map[key]bool{} // true: to change it
	holds := make([]*hold, 4)
	for i := range holds {
		holds[i] = e.newHold()
	}
	may := func(k key, change bool) bool {
		for other, changes := range model {
			if other.key == k.key && other.hold != k.hold && (change || changes) {
				return false
			}
		}
		return true
	}
	for step := range 20_000 {
		k := key{random.IntN(len(holds)), fmt.Sprint(random.IntN(40))}
		if random.IntN(60) == 0 {
			holds[k.hold].release()
			for other := range model {
				if other.hold == k.hold {
					delete(model, other)
				}
			}
			continue
		}
		change := random.IntN(2) == 0
		want := may(k, change)
		if got := holds[k.hold].claim(place{replica.ID(1), k.key}, change); got != want {
			t.Fatalf("step %d: %+v, to change it: %v: claimed: %v, want %v", step, k, change, got, want)
		}
		if want {
			model[k] = model[k] || change
		}
	}
	for _, h := range holds {
		h.release()
	}
	if n := len(e.claims.held); n != 0 {
		t.Errorf("%d claims are left when all was given back", n)
	}
}

// What a scan is refused is awaited: tasks of lanes are refused it, too, until a scan has
// looked at its folder again.
func TestScansAreGivenWay(t *testing.T) {
	e := &Engine{}
	r := &Replica{ID: 1}
	task, other, scan := e.newTaskHold(), e.newTaskHold(), e.newHold()
	first := e.claims.newScan()
	if !task.rely(r, "beds/rose") || scan.change(r, "beds/rose") {
		t.Fatal("the scan is not refused what a task relies on")
	}
	if other.rely(r, "beds/rose") || !other.rely(r, "beds/iris") {
		t.Error("another task is let in before the scan, or is kept from another path")
	}
	if !task.change(r, "beds/rose") {
		t.Error("the task that has the path may not note what it found there")
	}
	e.claims.lookedAt(place{1, "beds"}, first)
	task.release()
	if other.rely(r, "beds/rose") {
		t.Error("the scan that was refused ends the waiting itself")
	}
	if again := e.claims.awaitedIn(1); !slices.Equal(again, []string{"beds"}) {
		t.Errorf("to be looked at again are %q", again)
	}
	second := e.claims.newScan()
	if !scan.change(r, "beds/rose") {
		t.Error("the next scan is refused, too")
	}
	scan.release()
	e.claims.lookedAt(place{1, "beds"}, second)
	if !other.rely(r, "beds/rose") || len(e.claims.awaitedIn(1)) != 0 {
		t.Error("the path is still awaited after that")
	}
}
