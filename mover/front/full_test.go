package front_test

import (
	"fmt"
	"os"
	"strings"
	"syscall"
	"testing"

	"bridgespan/mover/front"
)

// On a disk that is full, what goes is written, what does not is told, nothing is half-written, and the
// rest is written once there is room.
func TestDiskFull(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root may mount a small file system")
	}
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "nr_inodes=12"); err != nil {
		t.Skipf("nothing can be mounted here: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	k := &front.Keeper{Folder: dir, State: t.TempDir()}
	if err := k.Make(t.Context(), "trust"); err != nil {
		t.Fatal(err)
	}
	var changes []change
	for i := range 30 {
		changes = append(changes, change{Entry: entry{Path: fmt.Sprintf("s%02d", i), To: []string{`one\s`}}})
	}
	failed := write(t, k, changes...)
	if len(failed) == 0 || len(failed) == len(changes) || !strings.Contains(failed[0].Trouble, "no space") {
		t.Fatalf("failed are %d: %+v", len(failed), failed)
	}
	found, err := k.Look(t.Context(), "trust")
	if err != nil || len(found.Entries) != len(changes)-len(failed) || len(found.Foreign) > 0 {
		t.Errorf("there are %d entries, foreign %v, %v", len(found.Entries), found.Foreign, err)
	}
	if err := syscall.Mount("tmpfs", dir, "tmpfs", syscall.MS_REMOUNT, "nr_inodes=100"); err != nil {
		t.Fatal(err)
	}
	if failed := write(t, k, changes...); len(failed) > 0 {
		t.Errorf("with room failed %+v", failed)
	}
}
