package replication

import (
	"testing"

	"bridgespan/core/acl"
	"bridgespan/core/replica"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

// A replica may become the seed while it still holds what was there before and has not
// given way. All of that belongs to the set from then on: if it did not, no lane would
// ever carry it anywhere, nor let anything else take its place.
func TestSeedHoldsWhatWasBefore(t *testing.T) {
	ctx := t.Context()
	p := newPair(t, &memory.Tree{}, &memory.Tree{})
	theirs, err := acl.Parse("O:BAG:BAD:(A;;FA;;;BA)(A;;FR;;;WD)")
	if err != nil {
		t.Fatal(err)
	}
	put(t, p.a, "folder/file", "of the first seed")
	put(t, p.b, "folder/file", "was here before")
	if err := p.b.Apply(ctx, "folder/file", tree.Meta{Descriptor: theirs}); err != nil {
		t.Fatal(err)
	}
	if _, err := p.Scan(ctx, 2); err != nil {
		t.Fatal(err)
	}
	if rec, err := p.Store.Get(ctx, 2, "folder/file"); err != nil || len(rec) != 1 || !rec[0].Prior() {
		t.Fatalf("it is not kept as something from before: %+v, %v", rec, err)
	}
	// The seed is put at another place: b is the seed, and a is new.
	p.Replicas[0] = &Replica{ID: 3, Name: "a", Tree: p.a}
	p.Replicas[1].Seed, p.Replicas[1].Filled = true, true
	p.Lanes = []replica.Lane{{From: 3, To: 2}, {From: 2, To: 3}}
	p.settleDown()
	p.same()
	if text, err := tree.ReadFile(ctx, p.a, "folder/file"); err != nil || string(text) != "was here before" {
		t.Errorf("a holds %q, %v", text, err)
	}
	if d, err := p.a.Descriptor(ctx, "folder/file"); err != nil || d != theirs {
		t.Errorf("a shows %s, %v", d, err)
	}
}
