package replication

import (
	"errors"
	"io/fs"
	"testing"

	"bridgespan/core/acl"
	"bridgespan/core/replica"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

// A first look that missed something for a while does not count: what it missed
// would be taken for what people made since, and spread. What it may not see lasts.
func TestFirstLookMisses(t *testing.T) {
	for _, c := range []struct {
		fault   error
		scanned bool
	}{{tree.ErrUnreachable, false}, {errors.New("a fault of the disk"), false}, {fs.ErrPermission, true}, {nil, true}} {
		b := &memory.Tree{}
		p := newPair(t, &memory.Tree{}, b)
		p.Trouble = func(Trouble) {}
		put(t, p.a, "kept/file", "of the seed")
		put(t, b, "old/file", "was here before")
		b.Fault = func(step, name string) error {
			if step == "list" && name == "old" {
				return c.fault
			}
			return nil
		}
		_, err := p.Scan(t.Context(), 2)
		if scanned, _ := p.State(2); (err == nil) != c.scanned || scanned != c.scanned {
			t.Errorf("%v: scanned is %v, %v", c.fault, scanned, err)
		}
		b.Fault = nil
		if c.scanned {
			continue
		}
		p.settleDown()
		p.same()
		if _, err := p.a.Stat(t.Context(), "old/file"); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("%v: what a replica held before has spread, %v", c.fault, err)
		}
	}
}

// Permissions that people change between the first look and the adoption of a file
// are theirs, and travel.
func TestPermissionsBeforeAdoption(t *testing.T) {
	p := newPair(t, &memory.Tree{}, &memory.Tree{})
	usual, err := acl.Parse("O:BAG:BAD:(A;;FA;;;BA)")
	if err != nil {
		t.Fatal(err)
	}
	theirs, err := acl.Parse("O:BAG:BAD:(A;;FA;;;BA)(A;;FR;;;WD)")
	if err != nil {
		t.Fatal(err)
	}
	for _, tr := range []tree.Tree{p.a, p.b} {
		put(t, tr, "file", "the same")
		if err := tr.Apply(t.Context(), "file", tree.Meta{Descriptor: usual}); err != nil {
			t.Fatal(err)
		}
	}
	for _, id := range []replica.ID{1, 2} {
		if _, err := p.Scan(t.Context(), id); err != nil {
			t.Fatal(err)
		}
	}
	if err := p.b.Apply(t.Context(), "file", tree.Meta{Descriptor: theirs}); err != nil {
		t.Fatal(err)
	}
	if _, err := p.Carry(t.Context(), p.Lanes[0], 10); err != nil { // before the next look
		t.Fatal(err)
	}
	p.settleDown()
	p.same()
	if d, err := p.a.Descriptor(t.Context(), "file"); err != nil || d != theirs {
		t.Errorf("the seed shows %s, %v", d, err)
	}
}
