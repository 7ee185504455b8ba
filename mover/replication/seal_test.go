package replication

import (
	"context"
	"errors"
	"testing"

	"bridgespan/core/acl"
	"bridgespan/core/replica"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

// sealing is a tree that seals files.
type sealing struct{ *memory.Tree }

var sealed = func() acl.Descriptor {
	d, err := acl.Parse("O:BAG:BAD:P(A;;FA;;;BA)")
	if err != nil {
		panic(err)
	}
	return d
}()

func (s *sealing) Capabilities() tree.Capabilities {
	c := s.Tree.Capabilities()
	c.Seals = true
	return c
}

func (s *sealing) Seal(ctx context.Context, name string) error {
	return s.Apply(ctx, name, tree.Meta{Descriptor: sealed})
}

// attics is a store that remembers what came into attics, and fails the first time.
type attics struct {
	Store
	fail bool
	kept []replica.Kept
}

func (s *attics) Save(ctx context.Context, c replica.Change) error {
	if len(c.Kept) > 0 && s.fail {
		s.fail = false
		return errors.New("the database is away")
	}
	err := s.Store.Save(ctx, c)
	if err == nil {
		s.kept = append(s.kept, c.Kept...)
	}
	return err
}

// What comes into an attic is sealed, and its permissions are kept, also when the store
// fails in between.
func TestAtticIsSealed(t *testing.T) {
	for what, fail := range map[string]bool{"at once": false, "after the store failed": true} {
		t.Run(what, func(t *testing.T) {
			a, b := &memory.Tree{}, &sealing{&memory.Tree{}}
			p := newPair(t, a, b)
			store := &attics{Store: p.Store, fail: fail}
			p.Store = store
			open, err := acl.Parse("O:BAG:BAD:P(A;;FA;;;BA)(A;;FA;;;WD)")
			if err != nil {
				t.Fatal(err)
			}
			put(t, a, "file", "text")
			if err := a.Apply(t.Context(), "file", tree.Meta{Descriptor: open}); err != nil {
				t.Fatal(err)
			}
			p.settleDown()
			if err := a.Remove(t.Context(), "file"); err != nil {
				t.Fatal(err)
			}
			if fail {
				if _, err := p.Scan(t.Context(), 1); err != nil {
					t.Fatal(err)
				}
				if _, err := p.Carry(t.Context(), p.Lanes[0], 100); err == nil {
					t.Fatal("the store did not fail")
				}
			}
			p.settleDown()
			if len(store.kept) != 1 || store.kept[0].Descriptor != open {
				t.Fatalf("the attic keeps %+v", store.kept)
			}
			if d, err := b.Descriptor(t.Context(), store.kept[0].Attic); err != nil || d != sealed {
				t.Errorf("in the attic it has %v, %v", d, err)
			}
		})
	}
}
