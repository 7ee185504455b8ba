package treetest

import (
	"context"
	"errors"
	"sync/atomic"
	"testing"
	"time"

	"bridgespan/tree"
)

func testWatch(t *testing.T, tr tree.Tree) {
	w, ok := tr.(tree.Watcher)
	if !ok {
		t.Skip("this tree has no way to tell of changes")
	}
	mkdir(t, tr, "old/deep")
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	told := make(chan string, 1000)
	ended := make(chan struct{})
	var cannot atomic.Bool
	go func() {
		defer close(ended)
		for folder, err := range w.Watch(ctx) {
			if errors.Is(err, tree.ErrUnsupported) {
				cannot.Store(true)
				cancel()
				return
			}
			if err != nil {
				t.Errorf("Watch: %v", err)
			}
			told <- folder
		}
	}()
	await := func(what, folder string) {
		t.Helper()
		for {
			select {
			case got := <-told:
				if got == folder {
					return
				}
			case <-ctx.Done():
				if cannot.Load() {
					t.Skip("what is below this tree has no way to tell of changes")
				}
				t.Fatalf("%s: nothing is told of %q", what, folder)
			}
		}
	}
	await("the beginning", "")
	put(t, tr, "top", "x")
	await("a new file", ".")
	put(t, tr, "old/deep/file", "x")
	await("a file in a folder", "old/deep")
	mkdir(t, tr, "new")
	await("a new folder", ".")
	put(t, tr, "new/file", "x")
	await("a file in a new folder", "new")
	if err := tr.Apply(ctx, "old/deep/file", tree.Meta{Modified: time.Now()}); err != nil {
		t.Fatal(err)
	}
	await("another time", "old/deep")
	if err := tr.Rename(ctx, "old/deep/file", "new/moved", false); err != nil {
		t.Fatal(err)
	}
	await("a rename, whence", "old/deep")
	await("a rename, whither", "new")
	if err := tr.Remove(ctx, "new/moved"); err != nil {
		t.Fatal(err)
	}
	await("a removal", "new")
	cancel()
	<-ended
}
