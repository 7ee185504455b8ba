package naming_test

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"bridgespan/core/namespace"
	"bridgespan/model"
)

// Whatever is changed, and in whatever order it is told of, what is remembered of a namespace is what
// the records hold.
func testTouched(t *testing.T, f fixture) {
	random := rand.New(rand.NewPCG(5, 26))
	paths := []string{"touched/a", "touched/b", "touched/deep/c"}
	for _, path := range paths {
		f.add(t, path, to("one", path), to("two", path))
	}
	for range 150 {
		path := paths[random.IntN(len(paths))]
		e, err := f.EntryAt(f.ctx, "n", path)
		if err != nil {
			t.Fatal(err)
		}
		l := e.Locations[random.IntN(len(e.Locations))]
		did := "hold"
		switch n := random.IntN(6); {
		case n == 0 && len(e.Locations) > 1:
			did = "remove a location"
			err = f.RemoveLocation(f.ctx, "n", e.ID, e.Version, l.ID)
		case n == 1:
			did = "add a location"
			err = f.AddLocation(f.ctx, "n", e.ID, e.Version, to("one", fmt.Sprint("x", random.Uint32())))
		case n == 2:
			did = "move"
			moved := fmt.Sprint(path, "-moved")
			if err = f.EditEntry(f.ctx, "n", e.ID, e.Version, model.EditEntry{Path: moved}); err == nil {
				f.ForgetPath("/n/" + path) // as the event says
				if e, err = f.EntryAt(f.ctx, "n", moved); err == nil {
					err = f.EditEntry(f.ctx, "n", e.ID, e.Version, model.EditEntry{Path: path})
				}
			}
		case n == 3:
			did = "remove and add"
			if err = f.RemoveEntry(f.ctx, "n", e.ID, e.Version); err == nil {
				f.add(t, path, to("two", path))
			}
		default:
			state := namespace.Held
			if l.Set == namespace.Held {
				state = namespace.Open
			}
			err = f.EditLocation(f.ctx, "n", e.ID, e.Version, l.ID, model.EditLocation{State: state, Why: "for the test"})
		}
		if err != nil {
			t.Fatalf("%s %s: %v", did, path, err)
		}
		f.ForgetPath("/n/" + path) // once more: the event comes after one's own note of it
		for _, path := range paths {
			remembered, err := f.Where(f.ctx, "/n/"+path, namespace.Traveller{Site: "Near"})
			if err != nil {
				t.Fatal(err)
			}
			kept, err := f.WhereNow(f.ctx, "/n/"+path, namespace.Traveller{Site: "Near"})
			if err != nil {
				t.Fatal(err)
			}
			remembered.ReadAt, kept.ReadAt, kept.Fresh = time.Time{}, time.Time{}, false
			if !reflect.DeepEqual(remembered, kept) {
				t.Fatalf("after %s of %s: of %s is remembered %+v, kept %+v", did, paths, path, remembered, kept)
			}
		}
	}
	for range 1000 { // more than is remembered one by one
		f.ForgetPath("/n/touched/a")
	}
	f.ForgetPath("no path")
	if _, err := f.Where(f.ctx, "/n/touched/a", namespace.Traveller{}); err != nil {
		t.Error(err)
	}
}
