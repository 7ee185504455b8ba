package replication

import (
	"context"
	"errors"
	"testing"
	"time"

	"bridgespan/core/replica"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

// What changes in a folder travels without a look at all.
func TestFollow(t *testing.T) {
	p := newPair(t, openFolder(t), openFolder(t))
	put(t, p.a, "ledgers/may.csv", "may")
	p.settleDown()
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
	defer cancel()
	looks := make(chan Scanned, 100)
	ended := make(chan error, 1)
	go func() {
		ended <- p.Follow(ctx, 1, func(s Scanned, err error) {
			if err != nil {
				t.Error(err)
			}
			looks <- s
		})
	}()
	await := func(changed int64) {
		t.Helper()
		for seen := int64(0); seen < changed; {
			select {
			case s := <-looks:
				seen += s.Changed
			case <-ctx.Done():
				t.Fatal("nothing was seen")
			}
		}
	}
	<-looks // from now on nothing is missed
	put(t, p.a, "ledgers/may.csv", "may, corrected")
	await(1)
	put(t, p.a, "new/deep/file", "in a new folder")
	await(3)
	if err := p.a.Remove(ctx, "ledgers/may.csv"); err != nil {
		t.Fatal(err)
	}
	await(1)
	for range 3 {
		if _, err := p.Carry(ctx, p.Lanes[0], 100); err != nil {
			t.Fatal(err)
		}
	}
	p.same()
	cancel()
	if err := <-ended; !errors.Is(err, context.Canceled) {
		t.Errorf("following ends with %v", err)
	}
	none := newPair(t, &memory.Tree{}, &memory.Tree{})
	if err := none.Follow(t.Context(), 1, nil); !errors.Is(err, tree.ErrUnsupported) {
		t.Errorf("a tree that tells nothing: %v", err)
	}
}

// A partial scan sees what changed right in a folder, and leaves the rest alone.
func TestGlance(t *testing.T) {
	p := newPair(t, &memory.Tree{}, &memory.Tree{})
	for _, name := range []string{"a/one", "a/b/two", "c/three"} {
		put(t, p.a, name, name)
	}
	p.settleDown()
	busy := map[string]int{}
	p.Busied = func(_ replica.ID, folder string, n int) { busy[folder] += n }
	put(t, p.a, "a/one", "changed")
	put(t, p.a, "a/b/two", "changed")
	put(t, p.a, "a/new/four", "new")
	s, err := p.PartialScan(t.Context(), 1, []string{"a", "nowhere"})
	if err != nil || s.Changed != 3 || busy["a"] != 2 || busy["a/new"] != 1 || busy["a/b"] != 0 {
		t.Errorf("%+v, %v, busy %v", s, err, busy)
	}
}

// A folder that is found gone is told of, by whoever finds it: a scan of all alone shows
// where it was moved to.
func TestFolderGone(t *testing.T) {
	scan := func(p *pair) error { _, err := p.Scan(t.Context(), 2); return err }
	partialScan := func(p *pair) error { _, err := p.PartialScan(t.Context(), 2, []string{"."}); return err }
	transfer := func(p *pair) error {
		put(t, p.a, "beds/aster.txt", "an aster")
		if _, err := p.Scan(t.Context(), 1); err != nil {
			return err
		}
		_, err := p.Carry(t.Context(), p.Lanes[0], 100)
		return err
	}
	for name, c := range map[string]struct {
		find func(*pair) error
		told bool
	}{"scan": {scan, false}, "partialScan": {partialScan, true}, "transfer": {transfer, true}} {
		p := newGarden(t, new(memory.Tree), 0)
		var told []replica.ID
		p.FolderGone = func(id replica.ID) { told = append(told, id) }
		if err := p.b.Rename(t.Context(), "beds", "shed/beds", false); err != nil {
			t.Fatal(err)
		}
		if err := c.find(p); err != nil {
			t.Fatal(err)
		}
		if c.told != (len(told) > 0) || c.told && told[0] != 2 {
			t.Errorf("%s: told of replicas %v", name, told)
		}
	}
}

// distantStore gives times back as a database does: in no zone of their own.
type distantStore struct{ *memoryStore }

func (d distantStore) Children(ctx context.Context, r replica.ID, folder string) ([]replica.Record, error) {
	records, err := d.memoryStore.Children(ctx, r, folder)
	for i := range records {
		records[i].Seen.Modified = records[i].Seen.Modified.UTC()
	}
	return records, err
}

// What did not change is neither kept anew nor told to anybody.
func TestScanOfNothingNew(t *testing.T) {
	p := newPair(t, openFolder(t), openFolder(t))
	p.Store = distantStore{p.Store.(*memoryStore)}
	put(t, p.a, "a/one", "one")
	p.settleDown()
	saves := p.known.saved(p.Replicas[0])
	if _, err := p.Scan(t.Context(), 1); err != nil {
		t.Fatal(err)
	}
	if n := p.known.saved(p.Replicas[0]) - saves; n != 0 {
		t.Errorf("a look at what did not change kept %d changes", n)
	}
}
