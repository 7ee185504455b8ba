package edge

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"bridgespan/guard"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
)

// A reader of a stub on a volume without space gets an error, and the true bytes once there is space: what could not be written
// is not taken for content, also when its checksum is unknown.
func TestFullVolume(t *testing.T) { eachTrigger(t, testFullVolume) }

func testFullVolume(t *testing.T, b *bench) {
	b.SetWait(100 * time.Millisecond)
	content := noise(1, 3<<20)
	for _, space := range []int64{16 << 10, 300 << 10, 1000 << 10, 1500<<10 + 5000, 2000 << 10} {
		b.stub(t, "f", content)
		before, err := b.folder.Stat(t.Context(), "f")
		if err != nil {
			t.Fatal(err)
		}
		free := standintest.TakeSpace(t, filepath.Join(filepath.Dir(b.dir), "ballast"), space)
		for range 2 {
			if got, err := b.command(t, "cat", "f"); err == nil || !bytes.HasPrefix(content, got) {
				t.Errorf("with space for %d bytes: %d bytes are read, %v", space, len(got), err)
			}
		}
		b.residency(t, "f", tree.Stub)
		free()
		if got, err := b.command(t, "cat", "f"); err != nil || !bytes.Equal(got, content) {
			t.Errorf("after there was space for %d bytes: %d bytes are read, %v, and are wrong", space, len(got), err)
		}
		b.residency(t, "f", tree.Whole)
		if after, err := b.folder.Stat(t.Context(), "f"); err != nil || !after.Modified.Equal(before.Modified) {
			t.Errorf("its time is %v, %v; was %v", after.Modified, err, before.Modified)
		}
		if err := os.Remove(filepath.Join(b.dir, "f")); err != nil {
			t.Fatal(err)
		}
	}
}

// telling tells whenever a content is opened.
type telling struct {
	tree.Tree
	opened chan string
}

func (t telling) Open(ctx context.Context, name string) (tree.Content, error) {
	t.opened <- name
	return t.Tree.Open(ctx, name)
}

// A reader waits for space, since other files become stubs.
func TestSpaceSoon(t *testing.T) { eachTrigger(t, testSpaceSoon) }

func testSpaceSoon(t *testing.T, b *bench) {
	content := noise(1, 3<<20)
	b.stub(t, "f", content)
	source := telling{b.objects, make(chan string, 1000)}
	b.Edge.Use(source)
	free := standintest.TakeSpace(t, filepath.Join(filepath.Dir(b.dir), "ballast"), 300<<10)
	var got []byte
	read := guard.Result(func() (err error) {
		got, err = b.command(t, "cat", "f")
		return err
	})
	waits := false
	for opened := 0; !waits && opened < 100; opened++ {
		select {
		case <-source.opened:
			waits = b.Counts().FetchedBytes >= 128<<10 && opened >= 3
		case err := <-read:
			t.Fatalf("the volume being full: %d bytes are read, %v", len(got), err)
		}
	}
	free()
	if err := <-read; !waits || err != nil || !bytes.Equal(got, content) {
		t.Errorf("once there was space: %d bytes are read, %v, and are wrong", len(got), err)
	}
}
