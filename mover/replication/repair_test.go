package replication

import (
	"slices"
	"testing"

	"bridgespan/core/chunk"
	"bridgespan/core/replica"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

// repaired notes the repairs of a pair.
func (p *pair) repaired() *[]string {
	var found []string
	p.Repaired = func(r Repair) { found = append(found, r.Replica+" "+r.Path+": "+r.Found) }
	return &found
}

// ghost puts records of a folder with a file into the store that the replica never had.
func (p *pair) ghost(r replica.ID, folder, file replica.Kind) {
	p.t.Helper()
	version := replica.Vector{{Replica: r, Count: 1}}
	records := []replica.Record{
		{Key: "ghost", Content: replica.Content{Kind: folder, Name: "ghost", Version: version}, Seen: replica.Seen{ID: 4711}},
		{Key: "ghost/file", Content: replica.Content{Kind: file, Name: "file", Version: version, Digest: emptyDigest}, Seen: replica.Seen{ID: 4712}},
	}
	if err := p.Store.Save(p.t.Context(), replica.Change{Replica: r, Records: records}); err != nil {
		p.t.Fatal(err)
	}
}

func (p *pair) kind(r *Replica, key string) replica.Kind {
	p.t.Helper()
	rec, err := p.get(p.t.Context(), r, key)
	if err != nil {
		p.t.Fatal(err)
	}
	return rec.Kind
}

// What is present in the records, in a folder that is not, is found when an engine
// begins, and put right: no scan comes to it.
func TestOrphansArePutRight(t *testing.T) {
	p := newPair(t, new(memory.Tree), new(memory.Tree))
	put(t, p.a, "beds/rose.txt", "a rose")
	p.settleDown()
	p.ghost(1, replica.None, replica.File)
	found := p.repaired()
	p.audited = nil // as when the service was started anew
	p.settleDown()
	if k := p.kind(p.Replicas[0], "ghost/file"); k != replica.None {
		t.Errorf("the record says that a %s is there", k)
	}
	if want := []string{"a ghost/file: " + foundOrphan}; !slices.Equal(*found, want) {
		t.Errorf("repairs are %q, want %q", *found, want)
	}
	if p.same(); p.kind(p.Replicas[1], "beds/rose.txt") != replica.File {
		t.Error("what was right is gone")
	}
}

// An orphan is suspected as soon as it is saved, wherever that comes from.
func TestOrphansAreSuspected(t *testing.T) {
	p := newPair(t, new(memory.Tree), new(memory.Tree))
	put(t, p.a, "beds/rose.txt", "a rose")
	p.settleDown()
	found := p.repaired()
	if err := tree.RemoveAll(t.Context(), p.a, "beds"); err != nil {
		t.Fatal(err)
	}
	p.settleDown()
	gone, err := p.folderRecord(t.Context(), p.Replicas[0], "beds") // it is known from now on
	if err != nil || gone.Kind != replica.None {
		t.Fatal(gone.Kind, err)
	}
	rec := replica.Record{Key: "beds/iris.txt", Content: replica.Content{Kind: replica.File, Name: "iris.txt", Version: replica.Vector{{Replica: 1, Count: 1}}}}
	if err := p.save(t.Context(), replica.Change{Replica: 1, Records: []replica.Record{rec}, Queue: p.Lanes[:1]}); err != nil {
		t.Fatal(err)
	}
	p.settleDown()
	p.same()
	if len(*found) != 1 || p.kind(p.Replicas[0], "beds/iris.txt") != replica.None {
		t.Errorf("repairs are %q", *found)
	}
}

// A file or folder that the records have at two paths is looked for at the older one.
func TestWhatIsAtTwoPaths(t *testing.T) {
	for _, name := range []string{"beds", "beds/rose.txt"} {
		t.Run(name, func(t *testing.T) {
			p := newPair(t, new(memory.Tree), new(memory.Tree))
			put(t, p.a, "beds/rose.txt", "a rose")
			p.settleDown()
			was, err := p.a.Stat(t.Context(), name)
			if err == nil {
				err = p.a.Rename(t.Context(), name, "moved", false)
			}
			if err != nil {
				t.Fatal(err)
			}
			s := p.newScan(1)
			if err := s.folder(t.Context(), someFolder{name: ".", key: "."}); err != nil {
				t.Fatal(err)
			}
			// The scan ends before it notes what is gone.
			found := p.repaired()
			if err := p.examine(t.Context(), p.Replicas[0]); err != nil {
				t.Fatal(err)
			}
			if len(*found) != 1 || p.kind(p.Replicas[0], name) != replica.None {
				t.Errorf("repairs of what had the number %d are %q", was.ID, *found)
			}
			p.settleDown()
			p.same()
		})
	}
}

// Hard links are at several paths, and nothing is wrong with that.
func TestHardLinksAreLeft(t *testing.T) {
	p := newPair(t, new(memory.Tree), new(memory.Tree))
	put(t, p.a, "rose.txt", "a rose")
	p.settleDown()
	found := p.repaired()
	p.suspect(1, "rose.txt", foundTwice)
	p.settleDown()
	if p.same(); len(*found) != 0 {
		t.Errorf("repairs are %q", *found)
	}
}

// Where the receiver's records have a folder that is not there, what comes into it meets
// that, and it is noted at once, without any scan.
func TestMissingFolderIsNoted(t *testing.T) {
	p := newPair(t, new(memory.Tree), new(memory.Tree))
	put(t, p.a, "beds/row/rose.txt", "a rose")
	p.settleDown()
	if err := tree.RemoveAll(t.Context(), p.b, "beds"); err != nil {
		t.Fatal(err)
	}
	put(t, p.a, "beds/row/iris.txt", "an iris")
	if _, err := p.Scan(t.Context(), 1); err != nil {
		t.Fatal(err)
	}
	if _, err := p.Carry(t.Context(), p.Lanes[0], 100); err != nil {
		t.Fatal(err)
	}
	if k := p.kind(p.Replicas[1], "beds"); k != replica.None {
		t.Errorf("the record of the folder says %s", k)
	}
	p.settleDown()
	p.same()
	if _, err := p.b.Stat(t.Context(), "beds/row/iris.txt"); err != nil {
		t.Error(err) // a folder lives on while something new is in it
	}
}

// A file that was written without a new time or length is found when it is brought, and
// brought as it is.
func TestWrittenWithoutNewTime(t *testing.T) {
	p := newPair(t, new(memory.Tree), new(memory.Tree))
	put(t, p.a, "rose.txt", "a rose")
	p.settleDown()
	found := p.repaired()
	rec, err := p.get(t.Context(), p.Replicas[0], "rose.txt")
	if err != nil {
		t.Fatal(err)
	}
	// As after people wrote into it in place, and its time was put back.
	put(t, p.a, "rose.txt", "2 rose")
	if err := p.a.Apply(t.Context(), "rose.txt", tree.Meta{Modified: rec.Modified}); err != nil {
		t.Fatal(err)
	}
	e, err := p.a.Stat(t.Context(), "rose.txt")
	if err != nil {
		t.Fatal(err)
	}
	rec.Seen.ID, rec.Digest, rec.Version = e.ID, chunk.Digest{1}, rec.Version.Advance(1)
	if err := p.save(t.Context(), replica.Change{Replica: 1, Records: []replica.Record{rec}, Queue: p.Lanes[:1]}); err != nil {
		t.Fatal(err)
	}
	p.settleDown()
	if p.same(); len(*found) != 1 {
		t.Errorf("repairs are %q", *found)
	}
}

// A ticket of a path that neither side has ends.
func TestTicketsOfNothingEnd(t *testing.T) {
	p := newPair(t, new(memory.Tree), new(memory.Tree))
	p.settleDown()
	s := p.Store.(*memoryStore)
	for _, key := range []string{"nothing", "in/nothing", "in/nothing/whole"} {
		s.queue(p.Lanes[0], key, s.seq+1, len(key)%2*3)
	}
	done, err := p.Carry(t.Context(), p.Lanes[0], 100)
	if err != nil || done.Postponed != 0 || len(s.backlog[p.Lanes[0]]) != 0 {
		t.Errorf("%+v, %v; %d tickets are left", done, err, len(s.backlog[p.Lanes[0]]))
	}
}
