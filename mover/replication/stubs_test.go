package replication

import (
	"context"
	"crypto/rand"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"bridgespan/core/replica"
	"bridgespan/mover/edge"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

// cloud is a bucket with two edges. At the second one, everything that comes becomes a stub.
type cloud struct {
	t            *testing.T
	engine       *Engine
	bucket       *memory.Tree
	whole, stubs *memory.Tree
	clock        time.Time
	told         []error
}

func newCloud(t *testing.T) *cloud {
	t.Helper()
	c := &cloud{t: t, bucket: &memory.Tree{Objects: true}, clock: time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)}
	source := func(ctx context.Context, name string, size int64, mark tree.Mark) ([]byte, error) {
		content, err := edge.Content(ctx, c.bucket, name, mark, size, true)
		if err != nil {
			return nil, err
		}
		return tree.ReadFile(ctx, c.bucket, content.Entry().Name)
	}
	c.whole, c.stubs = &memory.Tree{Source: source}, &memory.Tree{Source: source}
	c.engine = &Engine{Set: "cloud", Store: openMemoryStore(newMemoryDatabase()), Now: func() time.Time { return c.clock }, Unique: rand.Text,
		Lanes: replica.Hub(1, []replica.ID{1, 2, 3}), Trouble: func(tr Trouble) { c.told = append(c.told, tr.Err) },
		Replicas: []*Replica{{ID: 1, Name: "bucket", Tree: c.bucket, Seed: true}, {ID: 2, Name: "whole", Tree: c.whole}, {ID: 3, Name: "stubs", Tree: c.stubs, AsStub: func(string, int64, time.Time) bool { return true }}}}
	return c
}

// settle scans and carries until nothing changes any more.
func (c *cloud) settle() {
	c.t.Helper()
	c.clock = c.clock.Add(time.Hour)
	for range 4 {
		for _, r := range c.engine.Replicas {
			if _, err := c.engine.Scan(c.t.Context(), r.ID); err != nil {
				c.t.Fatal(err)
			}
		}
		for _, l := range c.engine.Lanes {
			if _, err := c.engine.Carry(c.t.Context(), l, 100); err != nil {
				c.t.Fatal(err)
			}
		}
	}
}

func (c *cloud) put(to *memory.Tree, name, content string) {
	c.t.Helper()
	c.clock = c.clock.Add(time.Minute)
	if _, err := to.Put(c.t.Context(), name, strings.NewReader(content), tree.PutOptions{Replace: true, Meta: tree.Meta{Modified: c.clock}}); err != nil {
		c.t.Fatal(err)
	}
}

// want compares what a replica shows: content and residency; "" stands for nothing.
func (c *cloud) want(of *memory.Tree, name, content string, residency tree.Residency) {
	c.t.Helper()
	e, err := of.Stat(c.t.Context(), name)
	if content == "" {
		if !absent(err) {
			c.t.Errorf("%s is there: %+v, %v", name, e, err)
		}
		return
	}
	if err != nil || e.Residency != residency {
		c.t.Errorf("%s is %+v, %v; want residency %d", name, e, err, residency)
		return
	}
	if residency == tree.Whole || content == "?" {
		if text, err := tree.ReadFile(c.t.Context(), of, name); content != "?" && (err != nil || string(text) != content) {
			c.t.Errorf("%s holds %q, %v; want %q", name, text, err, content)
		}
	}
}

// What comes to an edge of stubs is a stub, and what was fetched there stays current as a whole file.
func TestStubsArrive(t *testing.T) {
	c := newCloud(t)
	c.put(c.bucket, "a", "one")
	c.put(c.whole, "b", "two") // which the first fill puts into the attic: the bucket is the seed
	c.settle()
	c.want(c.whole, "a", "one", tree.Whole)
	c.want(c.stubs, "a", "one", tree.Stub)
	c.put(c.whole, "new", "three")
	c.settle()
	c.want(c.bucket, "new", "three", tree.Whole)
	c.want(c.stubs, "new", "three", tree.Stub)
	if err := tree.Fetch(t.Context(), c.stubs, "new"); err != nil {
		t.Fatal(err)
	}
	c.put(c.whole, "new", "four")
	c.put(c.whole, "a", "five")
	c.settle()
	c.want(c.stubs, "new", "four", tree.Whole)
	c.want(c.stubs, "a", "five", tree.Stub)
	if text, err := tree.ReadFile(t.Context(), c.stubs, "a"); err != nil || string(text) != "five" {
		t.Errorf("read, it holds %q, %v", text, err)
	}
	if len(c.told) > 0 {
		t.Errorf("told: %v", c.told)
	}
}

// An edge decides for each new file and each stub whether it is whole after the transfer, and is told of those that are. A stub that is
// replaced by a whole file is not read for that.
func TestWholeInPlaceOfStubs(t *testing.T) {
	c := newCloud(t)
	var received []string
	live := false
	c.engine.Replicas[2].AsStub = func(name string, _ int64, _ time.Time) bool { return !live || name == "cold" }
	c.engine.Replicas[2].Received = func(name string, _ int64) { received = append(received, name) }
	for _, name := range []string{"live", "cold", "fetched"} {
		c.put(c.bucket, name, "first")
	}
	c.settle()
	if err := tree.Fetch(t.Context(), c.stubs, "fetched"); err != nil || len(received) > 0 {
		t.Fatalf("received %q, %v", received, err)
	}
	c.stubs.Fault = func(step, name string) error {
		if step == "fetch" {
			t.Errorf("%s was fetched", name)
		}
		return nil
	}
	live = true
	for _, name := range []string{"live", "cold", "fetched", "new"} {
		c.put(c.bucket, name, "other")
	}
	c.settle()
	c.want(c.stubs, "live", "other", tree.Whole)
	c.want(c.stubs, "cold", "other", tree.Stub)
	c.want(c.stubs, "fetched", "other", tree.Whole)
	c.want(c.stubs, "new", "other", tree.Whole)
	slices.Sort(received)
	if want := []string{"live", "new"}; !slices.Equal(received, want) {
		t.Errorf("received %q, want %q", received, want)
	}
}

// People rename and remove stubs as they do whole files: nothing is fetched, and nothing without content goes to an attic.
func TestStubsChange(t *testing.T) {
	c := newCloud(t)
	for _, name := range []string{"moved", "gone", "here"} {
		c.put(c.bucket, name, "of "+name)
	}
	c.settle()
	c.stubs.Fault = func(step, name string) error {
		if step == "fetch" {
			t.Errorf("%s was fetched", name)
		}
		return nil
	}
	if err := errors.Join(c.stubs.Rename(t.Context(), "moved", "to", false), c.stubs.Remove(t.Context(), "gone")); err != nil {
		t.Fatal(err)
	}
	c.settle()
	c.want(c.bucket, "moved", "", 0)
	c.want(c.bucket, "to", "of moved", tree.Whole)
	c.want(c.bucket, "gone", "", 0)
	if err := c.whole.Remove(t.Context(), "here"); err != nil {
		t.Fatal(err)
	}
	c.settle()
	c.want(c.stubs, "here", "", 0)
	for e, err := range tree.Walk(t.Context(), c.stubs, atticFolder, tree.Plain) {
		if err == nil && e.Kind == tree.File {
			t.Errorf("%s is in the attic", e.Path)
		}
	}
}

// A file becomes a stub only while the bucket has what is in it.
func TestOffload(t *testing.T) {
	c := newCloud(t)
	c.put(c.whole, "f", "one")
	if _, err := c.engine.Scan(t.Context(), 2); err != nil {
		t.Fatal(err)
	}
	refused := func(why string) {
		t.Helper()
		if _, err := c.engine.Offload(t.Context(), 2, 1, "f"); !errors.Is(err, errLater) {
			t.Errorf("%s: %v", why, err)
		}
		if e, err := c.whole.Stat(t.Context(), "f"); err != nil || e.Residency != tree.Whole {
			t.Fatalf("%s: it is %+v, %v", why, e, err)
		}
	}
	refused("before the bucket has it")
	c.settle() // the bucket is the seed: what was here goes to the attic
	c.put(c.whole, "f", "two")
	refused("changed, and not scanned")
	c.settle()
	c.put(c.bucket, "f", "three")
	refused("changed in the bucket, and not scanned")
	c.settle()
	c.want(c.whole, "f", "three", tree.Whole)
	if freed, err := c.engine.Offload(t.Context(), 2, 1, "f"); err != nil || freed != 5 {
		t.Errorf("freed %d, %v", freed, err)
	}
	c.want(c.whole, "f", "three", tree.Stub)
	if err := c.bucket.Remove(t.Context(), "f"); err != nil {
		t.Fatal(err)
	}
	c.settle()
	c.want(c.whole, "f", "", 0)
}

// The content of a stub that was renamed here is replaced in the bucket before that is known there: the stub goes, and
// that is told.
func TestContentGone(t *testing.T) {
	c := newCloud(t)
	c.put(c.bucket, "f", "one")
	c.settle()
	if err := c.stubs.Rename(t.Context(), "f", "g", false); err != nil {
		t.Fatal(err)
	}
	c.put(c.bucket, "f", "another")
	c.settle()
	c.want(c.stubs, "g", "", 0)
	c.want(c.stubs, "f", "another", tree.Stub)
	if len(c.told) == 0 || !errors.Is(c.told[0], tree.ErrNoContent) {
		t.Errorf("told: %v", c.told)
	}
}
