package replication

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/replica"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

// bundleWorld is a garden that is carried to an empty place, until something
// happens at one step of that.
type bundleWorld struct {
	*pair
	from, to *memory.Tree
	store    *memoryStore
	steps    int
	at       int // the step at which something happens
	happens  func() error
	dead     error // what every step ends with
}

func newBundleWorld(t *testing.T, at int) *bundleWorld {
	t.Helper()
	w := &bundleWorld{from: new(memory.Tree), to: new(memory.Tree), at: at}
	w.pair = newPair(t, w.from, w.to)
	w.store = w.Store.(*memoryStore)
	w.Hands = 1
	given, err := acl.Parse("O:BAG:BAD:P(A;OICI;FA;;;BA)(A;OICI;FR;;;S-1-5-21-1-2-3-1001)")
	if err != nil {
		t.Fatal(err)
	}
	for _, folder := range []string{"beds", "beds/row"} {
		if err := errors.Join(w.from.Mkdir(t.Context(), folder), w.from.Apply(t.Context(), folder, tree.Meta{Descriptor: given})); err != nil {
			t.Fatal(err)
		}
		for i := range 3 {
			if _, err := w.from.Put(t.Context(), fmt.Sprintf("%s/plant %d.txt", folder, i), strings.NewReader(fmt.Sprint("plant ", i, " of ", folder)), tree.PutOptions{Meta: tree.Meta{Modified: time.Date(2026, 3, 1, 8, i, 0, 0, time.UTC), Descriptor: given}}); err != nil {
				t.Fatal(err)
			}
		}
	}
	return w
}

// step is asked at each step of the receiver and of the records.
func (w *bundleWorld) step() error {
	if w.dead != nil {
		return w.dead
	}
	if w.steps++; w.steps-1 == w.at {
		return w.happens()
	}
	return nil
}

// run scans, and carries with what happens at the receiver; false when nothing
// happened any more.
func (w *bundleWorld) run() bool { return w.runWith(w.to) }

// runWith is run with what happens at one of the trees.
func (w *bundleWorld) runWith(there *memory.Tree) bool {
	w.t.Helper()
	w.Trouble = nil
	for _, r := range w.Replicas {
		if _, err := w.Scan(w.t.Context(), r.ID); err != nil {
			w.t.Fatal(err)
		}
	}
	there.Fault = func(string, string) error { return w.step() }
	w.store.fault = w.step
	_, _ = w.Carry(w.t.Context(), w.Lanes[0], 1000)
	there.Fault, w.store.fault = nil, nil
	return w.steps > w.at
}

// again works on with another engine, as after a crash.
func (w *bundleWorld) again() {
	w.t.Helper()
	former := w.Engine
	w.Engine = &Engine{Set: former.Set, Store: former.Store, Replicas: former.Replicas, Lanes: former.Lanes, Now: time.Now, Hands: 1, Unique: func() string { return "again " + former.Unique() }}
	w.settleDown()
}

// check returns what is wrong in the end.
func (w *bundleWorld) check(peoples ...string) error {
	ctx := context.Background()
	if a, b := shown(w.t, w.from), shown(w.t, w.to); !maps.Equal(a, b) {
		return fmt.Errorf("the replicas differ: %v and %v", a, b)
	}
	for _, rec := range w.store.all(2) {
		if rec.Pending != nil {
			return fmt.Errorf("%s is still pending", rec.Key)
		}
		if changed := func(tick replica.Tick) bool { return tick.Replica == 2 }; peoples == nil && (slices.ContainsFunc(rec.Version, changed) || slices.ContainsFunc(rec.Permissions.Version, changed)) {
			return fmt.Errorf("%s is believed to have been changed where nobody works", rec.Key)
		}
	}
	all := map[string]bool{}
	for e, err := range tree.Walk(ctx, w.to, ".", tree.Plain) {
		if err != nil {
			return err
		}
		if e.Kind == tree.File && strings.HasPrefix(e.Path, intakeFolder+"/") {
			return fmt.Errorf("%s is left", e.Path)
		}
		if e.Kind == tree.File {
			text, err := tree.ReadFile(ctx, w.to, e.Path)
			if err != nil {
				return err
			}
			all[string(text)] = true
		}
	}
	for _, text := range peoples {
		if !all[text] {
			return fmt.Errorf("what people wrote is lost: %q", text)
		}
	}
	return nil
}

// TestBundles brings folders whole, breaks that off at each step, lets each step
// fail, and lets people work at each.
func TestBundles(t *testing.T) {
	mine := "written by people"
	for name, c := range map[string]struct {
		happens func(w *bundleWorld) error
		after   func(w *bundleWorld)
		peoples []string
	}{
		"a crash":              {func(w *bundleWorld) error { w.dead = errCrash; return errCrash }, func(w *bundleWorld) { w.again() }, nil},
		"a fault":              {func(*bundleWorld) error { return errCrash }, func(w *bundleWorld) { w.settleDown(); w.settleDown() }, nil},
		"the server goes away": {func(w *bundleWorld) error { w.dead = tree.ErrUnreachable; return w.dead }, func(w *bundleWorld) { w.settleDown() }, nil},
		"people make the folder": {func(w *bundleWorld) error {
			return w.people(func() error { return tree.MkdirAll(w.t.Context(), w.to, "beds") })
		}, func(w *bundleWorld) { w.settleDown() }, []string{}},
		"people write a file of that name": {func(w *bundleWorld) error {
			return w.people(func() error {
				_ = tree.MkdirAll(w.t.Context(), w.to, "beds")
				_, err := w.to.Put(w.t.Context(), "beds/plant 1.txt", strings.NewReader(mine), tree.PutOptions{Replace: true})
				return err
			})
		}, func(w *bundleWorld) { w.settleDown() }, []string{mine}},
		"people write there, and a crash": {func(w *bundleWorld) error {
			_ = w.people(func() error {
				_ = tree.MkdirAll(w.t.Context(), w.to, "beds")
				_, err := w.to.Put(w.t.Context(), "beds/plant 1.txt", strings.NewReader(mine), tree.PutOptions{Replace: true})
				return err
			})
			w.dead = errCrash
			return errCrash
		}, func(w *bundleWorld) { w.again() }, []string{mine}},
	} {
		t.Run(name, func(t *testing.T) {
			at := 0
			for ; ; at++ {
				w := newBundleWorld(t, at)
				w.happens = func() error { return c.happens(w) }
				happened := w.run()
				w.dead = nil
				w.Trouble = nil
				c.after(w)
				if !happened {
					break
				}
				if err := w.check(c.peoples...); err != nil {
					t.Fatalf("at step %d: %v", at, err)
				}
			}
			if at < 30 {
				t.Errorf("there were %d steps only", at)
			}
		})
	}
}

// TestBundlesOfWhatChanges lets people work at the sender at each step of its own:
// what was carried of files that are others by now must not stay.
func TestBundlesOfWhatChanges(t *testing.T) {
	const file = "beds/plant 1.txt"
	write := func(text string) func(w *bundleWorld) error {
		return func(w *bundleWorld) error {
			_, err := w.from.Put(w.t.Context(), file, strings.NewReader(text), tree.PutOptions{Replace: true})
			return err
		}
	}
	for name, change := range map[string]func(w *bundleWorld) error{
		"a file is written":         write("watered"),
		"a file of the same length": write("plant 9 of beds"),
		"a file is renamed":         func(w *bundleWorld) error { return w.from.Rename(w.t.Context(), file, "beds/plant 7.txt", false) },
		"a file is removed":         func(w *bundleWorld) error { return w.from.Remove(w.t.Context(), file) },
		"the folder is renamed":     func(w *bundleWorld) error { return w.from.Rename(w.t.Context(), "beds", "borders", false) },
		"a file goes into the folder": func(w *bundleWorld) error {
			return w.from.Rename(w.t.Context(), "beds/row/plant 0.txt", "beds/plant 0b.txt", false)
		},
	} {
		t.Run(name, func(t *testing.T) {
			at := 0
			for ; ; at++ {
				w := newBundleWorld(t, at)
				w.happens = func() error { return w.people(func() error { return change(w) }) }
				happened := w.runWith(w.from)
				if err := w.torn(file); err != nil {
					t.Fatalf("at step %d: %v", at, err)
				}
				w.Trouble = nil
				w.settleDown()
				if !happened {
					break
				}
				if err := w.check(); err != nil {
					t.Fatalf("at step %d: %v", at, err)
				}
			}
			if at < 10 {
				t.Errorf("there were %d steps only", at)
			}
		})
	}
}

// torn tells of a file that came with other content than its time says.
func (w *bundleWorld) torn(file string) error {
	there, err := w.to.Stat(w.t.Context(), file)
	if err != nil {
		return nil // it has not come yet
	}
	text, err := tree.ReadFile(w.t.Context(), w.to, file)
	if first := string(text) == "plant 1 of beds"; first != there.Modified.Equal(time.Date(2026, 3, 1, 8, 1, 0, 0, time.UTC)) {
		err = fmt.Errorf("%s is %q, of %v", file, text, there.Modified)
	}
	return err
}

// people do something between two steps of the engine.
func (w *bundleWorld) people(do func() error) error {
	fault, other := w.to.Fault, w.from.Fault
	w.to.Fault, w.from.Fault = nil, nil
	defer func() { w.to.Fault, w.from.Fault = fault, other }()
	if err := do(); err != nil {
		w.t.Log(err)
	}
	return nil
}
