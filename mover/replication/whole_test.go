package replication

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/replica"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

// steps records what is done at a tree, until its test ends.
type steps struct {
	mu   sync.Mutex
	list []string
}

func (s *steps) note(step, name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.list = append(s.list, step+" "+name)
}

// take returns the steps so far, of those that change something.
func (s *steps) take() (changes []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, one := range s.list {
		step, _, _ := strings.Cut(one, " ")
		if slices.Contains([]string{"stage", "commit", "rename", "remove", "mkdir", "apply"}, step) {
			changes = append(changes, one)
		}
	}
	s.list = nil
	return changes
}

// A new file is written to an object store with one Put, and nothing waits in an intake.
func TestWritesObjectsOnce(t *testing.T) {
	done := &steps{}
	b := &memory.Tree{Objects: true, CaseSensitive: true}
	p := newPair(t, &memory.Tree{CaseSensitive: true}, b)
	for i := range 20 { // as many as would come as a bundle
		put(t, p.a, fmt.Sprint("beds/fern-", i), fmt.Sprint("fern ", i))
	}
	p.settleDown()
	p.same()
	b.Fault = func(step, name string) error { done.note(step, name); return nil }
	put(t, p.a, "beds/moss", "moss")
	put(t, p.a, "walls/ivy", "ivy")
	if c := p.settleDown(); c.Files != 2 {
		t.Errorf("carried %+v", c)
	}
	changes := done.take()
	for _, one := range changes {
		if strings.Contains(one, ".bspan/intake") || strings.HasPrefix(one, "rename") {
			t.Errorf("done at the store: %s", one)
		}
	}
	for _, name := range []string{"beds/moss", "walls/ivy"} {
		if n := count(changes, "commit "+name); n != 1 {
			t.Errorf("%s was written %d times", name, n)
		}
	}
	p.same()
}

func count(list []string, one string) (n int) {
	for _, s := range list {
		if s == one {
			n++
		}
	}
	return n
}

// A version that is replaced by another one goes to the attic, and at no moment nothing is at its path.
func TestNeverEmptyInObjectStore(t *testing.T) {
	b := &memory.Tree{Objects: true, CaseSensitive: true}
	p := newPair(t, &memory.Tree{CaseSensitive: true}, b)
	put(t, p.a, "minutes", "may")
	p.settleDown()
	put(t, p.b, "minutes", "the store's june")
	put(t, p.a, "minutes", "june at the server, which is later")
	looking := false
	b.Fault = func(step, name string) error {
		if looking {
			return nil
		}
		looking = true
		defer func() { looking = false }()
		if _, err := b.Stat(context.Background(), "minutes"); err != nil {
			t.Errorf("before %s of %s: %v", step, name, err)
		}
		return nil
	}
	p.Hands = 1
	if c := p.settleDown(); c.Conflicts == 0 {
		t.Errorf("no conflict: %+v", c)
	}
	b.Fault = nil
	p.same()
	if kept := append(inAttic(t, p.a), inAttic(t, p.b)...); len(kept) != 1 {
		t.Errorf("in the attics: %q", kept)
	}
}

// A write that is broken off at any step is finished or taken back, and every version is kept.
func TestObjectWriteBrokenOff(t *testing.T) {
	for fuel := 0; ; fuel++ {
		ended, err := brokenOff(t, fuel)
		if err != nil {
			t.Fatalf("broken off after %d steps: %v", fuel, err)
		}
		if ended {
			if fuel < 10 {
				t.Errorf("it took %d steps only", fuel)
			}
			return
		}
	}
}

// brokenOff lets the engine end after some steps at the store, and another one go on. ended is true when the first
// one was done before that.
func brokenOff(t *testing.T, fuel int) (ended bool, err error) {
	a, b := &memory.Tree{CaseSensitive: true}, &memory.Tree{Objects: true, CaseSensitive: true}
	p := newPair(t, a, b)
	p.Hands = 1
	put(t, a, "minutes", "may")
	p.settleDown()
	put(t, b, "minutes", "the store's june")
	put(t, a, "minutes", "june at the server, which is later")
	put(t, a, "new", "new")
	left := fuel
	b.Fault = func(string, string) error {
		if left--; left < 0 {
			return errCrash
		}
		return nil
	}
	p.Trouble = func(Trouble) {}
	for _, r := range p.Replicas {
		_, bad := p.Scan(t.Context(), r.ID)
		err = errors.Join(err, bad)
	}
	for _, l := range p.Lanes {
		_, bad := p.Carry(t.Context(), l, 100)
		err = errors.Join(err, bad)
	}
	ended = left >= 0 && err == nil
	b.Fault = nil
	again := newPair(t, a, b)
	again.Store, again.Replicas = p.Store, p.Replicas
	again.settleDown()
	again.same()
	texts := append(inAttic(t, a), inAttic(t, b)...)
	for _, text := range shown(t, a) {
		texts = append(texts, text)
	}
	for _, want := range []string{"the store's june", "june at the server", "new"} {
		if !slices.ContainsFunc(texts, func(s string) bool { return strings.HasPrefix(s, want) }) {
			return ended, fmt.Errorf("%q is lost: %q", want, texts)
		}
	}
	return ended, nil
}

// Permissions that a client of an object store has dropped are set again, and nobody has changed them.
func TestDroppedPermissions(t *testing.T) {
	d, err := acl.Parse("O:S-1-22-1-0G:S-1-22-2-0D:P(A;;FA;;;S-1-22-1-0)(A;;FR;;;WD)")
	if err != nil {
		t.Fatal(err)
	}
	ctx := t.Context()
	a, b := &memory.Tree{CaseSensitive: true}, &memory.Tree{Objects: true, CaseSensitive: true}
	p := newPair(t, a, b)
	put(t, a, "beds/fern", "fern")
	for _, name := range []string{"beds", "beds/fern"} {
		if err := a.Apply(ctx, name, tree.Meta{Descriptor: d}); err != nil {
			t.Fatal(err)
		}
	}
	p.settleDown()
	for _, name := range []string{"beds/fern", "beds"} {
		if err := b.Remove(ctx, name); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := b.Put(ctx, "beds/fern", strings.NewReader("a taller fern"), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	p.settleDown()
	p.same()
	for _, tr := range []tree.Tree{a, b} {
		for _, name := range []string{"beds", "beds/fern"} {
			if has, err := tr.Descriptor(ctx, name); err != nil || has != d {
				t.Errorf("%s has %v, %v", name, has, err)
			}
		}
	}
	for _, key := range []string{"beds", "beds/fern"} {
		rec, err := p.get(ctx, p.Replicas[1], key)
		if err != nil || slices.ContainsFunc(rec.Permissions.Version, func(v replica.Tick) bool { return v.Replica == 2 }) {
			t.Errorf("%s counts as changed at the store: %v, %v", key, rec.Permissions.Version, err)
		}
	}
}

// A scan of an object store asks for versions alone, and for details of what has another version.
func TestScanAsksForVersions(t *testing.T) {
	done := &steps{}
	b := &memory.Tree{Objects: true, CaseSensitive: true}
	p := newPair(t, &memory.Tree{CaseSensitive: true}, b)
	for i := range 30 {
		put(t, p.a, fmt.Sprintf("bed-%d/fern", i), "fern")
	}
	p.settleDown()
	b.Fault = func(step, name string) error {
		if step != "list" && !own(name) {
			done.note(step, name)
		}
		return nil
	}
	scan := func() Scanned {
		t.Helper()
		s, err := p.Scan(t.Context(), 2)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	if s := scan(); s.Entries != 60 || s.Changed != 0 || len(done.list) != 0 {
		t.Errorf("nothing changed: %+v, and asked %v", s, done.list)
	}
	put(t, b, "bed-7/fern", "a taller fern")
	done.list = nil
	if s := scan(); s.Changed != 1 {
		t.Errorf("a file changed: %+v", s)
	}
	for _, one := range done.list {
		if !strings.HasSuffix(one, "bed-7/fern") {
			t.Errorf("asked %s", one)
		}
	}
	b.Fault = nil
	p.settleDown()
	p.same()
}

// Where a filter heeds when files were changed, their times are asked for.
func TestScanAsksForTimes(t *testing.T) {
	b := &memory.Tree{Objects: true, CaseSensitive: true}
	p := newPair(t, &memory.Tree{CaseSensitive: true}, b)
	p.LeaveOutByTime = true
	p.LeaveOut = func(_ string, e tree.Entry) bool { return e.Kind == tree.File && e.Modified.Year() < 2000 }
	put(t, p.a, "fern", "fern")
	if err := p.a.Apply(t.Context(), "fern", tree.Meta{Modified: time.Date(2001, 1, 1, 0, 0, 0, 0, time.UTC)}); err != nil {
		t.Fatal(err)
	}
	p.settleDown()
	p.same()
	s, err := p.Scan(t.Context(), 2)
	if err != nil || s.Entries != 1 || s.Changed != 0 {
		t.Errorf("scanned %+v, %v", s, err)
	}
}
