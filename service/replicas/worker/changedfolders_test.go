package worker

import (
	"slices"
	"testing"
)

// Changed folders are kept until they are taken; of too many, all of the replica is to be scanned.
func TestChangedFolders(t *testing.T) {
	c := changedFolders{bell: make(chan struct{}, 1)}
	if !c.add(nil) || len(c.bell) != 0 {
		t.Error("no folder rings")
	}
	if !c.add([]string{"a"}) || !c.add([]string{"b"}) || len(c.bell) != 1 {
		t.Error("two folders do not ring once")
	}
	if got := c.take(); !slices.Equal(got, []string{"a", "b"}) || len(c.take()) != 0 {
		t.Errorf("taken are %q", got)
	}
	if c.add(make([]string, mostChanged+1)) || len(c.take()) != 0 {
		t.Error("too many folders wait")
	}
}
