package records_test

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/chunk"
	"bridgespan/core/replica"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/standin/standintest"
)

// fullRecord is a record in which everything says something.
func fullRecord(t *testing.T, key string) replica.Record {
	t.Helper()
	d, err := acl.Parse("O:BAG:BAD:(A;;FA;;;BA)")
	if err != nil {
		t.Fatal(err)
	}
	other, err := acl.Parse("O:BAG:BAD:AI(A;ID;FA;;;BA)")
	if err != nil {
		t.Fatal(err)
	}
	at := time.Date(2026, 3, 1, 12, 0, 0, 123456789, time.UTC)
	name := key[strings.LastIndex(key, "/")+1:]
	c := replica.Content{Version: replica.Vector{{Replica: 1, Count: 2}, {Replica: 9, Count: 1}}, Kind: replica.File, Name: strings.ToUpper(name), Size: 1 << 40, Modified: at,
		Digest: chunk.Digest{1, 2, 3}, Changed: at.Add(time.Minute), By: 9, Moved: "from/where"}
	p := replica.Permissions{Version: replica.Vector{{Replica: 2, Count: 7}}, Descriptor: d, Attributes: 3, Changed: at, By: 2}
	return replica.Record{Key: key, Content: c, Permissions: p, Seen: replica.Seen{Size: 5, Modified: at, ID: 1<<63 + 5, Descriptor: other, Attributes: 1},
		Pending: &replica.Pending{Content: c, Permissions: p, Staged: ".bspan/intake/u1", Attic: ".bspan/attic/u2"}}
}

func alike(t *testing.T, s *records.Replication, r replica.ID, size int64, modified time.Time) []replica.Record {
	t.Helper()
	found, err := s.Alike(t.Context(), r, size, modified)
	if err != nil {
		t.Fatal(err)
	}
	return found
}

func testReplication(t *testing.T, db *records.DB) {
	s, ctx := db.Replication(), t.Context()
	lane, back := replica.Lane{From: 1, To: 2}, replica.Lane{From: 2, To: 1}
	save := func(c replica.Change) {
		t.Helper()
		if err := s.Save(ctx, c); err != nil {
			t.Fatal(err)
		}
	}
	if recs, err := s.Get(ctx, 1, "nothing/there"); err != nil || !reflect.DeepEqual(recs, []replica.Record{{Key: "nothing/there"}}) {
		t.Errorf("of nothing: %+v, %v", recs, err)
	}
	long := strings.Repeat("long folder/", 300) + "file"
	full, deep, zero := fullRecord(t, "docs/a.txt"), fullRecord(t, long), replica.Record{Key: "docs/zero"}
	deep.Pending = nil
	save(replica.Change{Replica: 1, Records: []replica.Record{full, deep, zero}, Queue: []replica.Lane{lane}, Kept: []replica.Kept{{Path: "docs/b", Attic: ".bspan/attic/b", Why: replica.Lost}}})
	want := []replica.Record{zero, {Key: "docs/none"}, full, deep}
	if got, err := s.Get(ctx, 1, "docs/zero", "docs/none", full.Key, deep.Key); err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("kept  %+v\nfound %+v, %v", want, got, err)
	}
	if found, err := s.Alike(ctx, 1, full.Size, full.Modified); err != nil || len(found) != 2 || found[0].Digest != full.Digest {
		t.Errorf("alike are %+v, %v", found, err)
	}
	for _, none := range [][]replica.Record{alike(t, s, 1, full.Size+1, full.Modified), alike(t, s, 1, full.Size, full.Modified.Add(1)), alike(t, s, 2, full.Size, full.Modified), alike(t, s, 1, zero.Size, zero.Modified)} {
		if len(none) != 0 {
			t.Errorf("alike are %+v", none)
		}
	}
	if other, err := s.Get(ctx, 2, full.Key); err != nil || other[0].Kind != replica.None {
		t.Errorf("at another replica: %+v, %v", other, err)
	}
	keys := func(found []replica.Record, err error) string {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		var list []string
		for _, rec := range found {
			list = append(list, rec.Key)
		}
		return strings.Join(list, " ")
	}
	if got := keys(s.Children(ctx, 1, "docs")); got != "docs/a.txt docs/zero" {
		t.Errorf("in docs: %s", got)
	}
	if got := keys(s.Children(ctx, 1, ".")); got != "" {
		t.Errorf("at the top: %s", got)
	}
	if got := keys(s.ByFile(ctx, 1, 1<<63+5)); !strings.Contains(got, "docs/a.txt") || strings.Contains(got, "zero") {
		t.Errorf("by the number of the file: %s", got)
	}
	if got := keys(s.Unfinished(ctx, 1)); got != "docs/a.txt" {
		t.Errorf("unfinished: %s", got)
	}
	full.Pending = nil
	save(replica.Change{Replica: 1, Records: []replica.Record{full}})
	if got := keys(s.Unfinished(ctx, 1)); got != "" {
		t.Errorf("unfinished after the end: %s", got)
	}
	backlog := func(l replica.Lane) []replica.Ticket {
		t.Helper()
		tickets, err := s.Backlog(ctx, l, 100)
		if err != nil {
			t.Fatal(err)
		}
		return tickets
	}
	tickets := backlog(lane)
	if len(tickets) != 3 || len(backlog(back)) != 0 {
		t.Fatalf("backlog: %v; the other way: %v", tickets, backlog(back))
	}
	// What is put there again meanwhile stays.
	save(replica.Change{Replica: 1, Records: []replica.Record{full}, Queue: []replica.Lane{lane}})
	if err := s.Done(ctx, lane, tickets); err != nil {
		t.Fatal(err)
	}
	left := backlog(lane)
	if len(left) != 1 || left[0].Key != full.Key {
		t.Errorf("after all was done: %v", left)
	}
	save(replica.Change{Replica: 1, Records: []replica.Record{zero}, Queue: []replica.Lane{lane}})
	if err := s.Postpone(ctx, lane, left, 0); err != nil {
		t.Fatal(err)
	}
	got := backlog(lane)
	if len(got) != 2 || got[0].Key != zero.Key || got[1].Seq == left[0].Seq {
		t.Errorf("postponed: %v", got)
	}
	// What failed is left alone, until it changes.
	if err := s.Failed(ctx, lane, got[1:]); err != nil {
		t.Fatal(err)
	}
	if got := backlog(lane); len(got) != 1 || got[0].Key != zero.Key {
		t.Errorf("after a failure: %v", got)
	}
	if all, err := db.Backlog(ctx, lane); err != nil || all.Files != 1 || all.Bytes != full.Size { // nobody is to be told of what never was
		t.Errorf("the backlog is %+v, %v", all, err)
	}
	save(replica.Change{Replica: 1, Records: []replica.Record{full}, Queue: []replica.Lane{lane}})
	if got := backlog(lane); len(got) != 2 {
		t.Errorf("after it changed: %v", got)
	}
	// All or nothing: a record that cannot be kept keeps the others back.
	bad := zero
	bad.Key = "docs/" + strings.Repeat("x", 2000)
	fresh := replica.Record{Key: "docs/fresh"}
	if err := s.Save(ctx, replica.Change{Replica: 1, Records: []replica.Record{fresh, bad}}); err == nil {
		t.Error("a name of 2000 bytes is kept")
	}
	if got := keys(s.Children(ctx, 1, "docs")); got != "docs/a.txt docs/zero" {
		t.Errorf("after a change that failed: %s", got)
	}
}

// testWholeFolders puts folders into a backlog as wholes, counts them, and splits one.
func testWholeFolders(t *testing.T, db *records.DB) {
	s, ctx := db.Replication(), t.Context()
	lane := replica.Lane{From: 31, To: 32}
	save := func(r replica.ID, whole string, keys ...string) {
		t.Helper()
		c := replica.Change{Replica: r, Queue: []replica.Lane{lane}, Whole: whole}
		for _, key := range keys {
			rec := fullRecord(t, key)
			rec.Pending = nil
			c.Records = append(c.Records, rec)
		}
		if err := s.Save(ctx, c); err != nil {
			t.Fatal(err)
		}
	}
	waits := func(want ...replica.Ticket) []replica.Ticket {
		t.Helper()
		tickets, err := s.Backlog(ctx, lane, 100)
		if err != nil {
			t.Fatal(err)
		}
		slices.SortFunc(tickets, func(a, b replica.Ticket) int { return strings.Compare(a.Key, b.Key) })
		for i := range tickets {
			if i < len(want) && (tickets[i].Key != want[i].Key || tickets[i].Whole != want[i].Whole || tickets[i].Seq == 0) || len(tickets) != len(want) {
				t.Fatalf("the backlog is %+v, and should be %+v", tickets, want)
			}
		}
		return tickets
	}
	counted := func(files, carried int64) {
		t.Helper()
		size := fullRecord(t, "x").Size
		if b, err := db.Backlog(ctx, lane); err != nil || b.Files != files || b.Bytes != carried*size || b.Oldest == nil {
			t.Errorf("the backlog is %+v, %v; %d paths wait, %d of them of %d bytes", b, err, files, carried, size)
		}
	}
	save(31, "", "beds")
	save(31, "beds", "beds/a", "beds/b", "beds/row")
	save(31, "beds/row", "beds/row/c")
	waits(replica.Ticket{Key: "beds", Whole: 3}, replica.Ticket{Key: "beds/row", Whole: 1})
	counted(5, 5) // beds/row waits by itself, and in beds
	if in, err := s.BacklogIn(ctx, lane, "beds", 10); err != nil || len(in) != 1 || in[0].Key != "beds/row" || in[0].Whole != 1 {
		t.Errorf("in beds wait %+v, %v", in, err)
	}
	if in, err := s.BacklogIn(ctx, lane, ".", 10); err != nil || len(in) != 1 || in[0].Key != "beds" {
		t.Errorf("at the top wait %+v, %v", in, err)
	}
	// What changes in it, and it alone, stays one of the whole.
	save(31, "", "beds", "beds/a")
	tickets := waits(replica.Ticket{Key: "beds", Whole: 3}, replica.Ticket{Key: "beds/a"}, replica.Ticket{Key: "beds/row", Whole: 1})
	split, err := s.Split(ctx, lane, tickets[0], []string{"beds/b"})
	if err != nil || len(split) != 1 || split[0].Key != "beds/b" {
		t.Fatalf("%+v, %v", split, err)
	}
	if err := s.Failed(ctx, lane, split); err != nil {
		t.Fatal(err)
	}
	waits(replica.Ticket{Key: "beds/a"}, replica.Ticket{Key: "beds/row", Whole: 1}) // what failed is left alone
	save(31, "", "beds/b")
	waits(replica.Ticket{Key: "beds/a"}, replica.Ticket{Key: "beds/b"}, replica.Ticket{Key: "beds/row", Whole: 1})
	// A whole that was put there again meanwhile stays.
	save(31, "beds/row", "beds/row/d")
	if _, err := s.Split(ctx, lane, tickets[2], nil); err != nil {
		t.Fatal(err)
	}
	waits(replica.Ticket{Key: "beds/a"}, replica.Ticket{Key: "beds/b"}, replica.Ticket{Key: "beds/row", Whole: 1})
	// What the receiver alone has, waits too.
	save(32, "shed", "shed/rake")
	waits(replica.Ticket{Key: "beds/a"}, replica.Ticket{Key: "beds/b"}, replica.Ticket{Key: "beds/row", Whole: 1}, replica.Ticket{Key: "shed", Whole: 1})
	counted(6, 5) // nothing of it crosses
	// Nor does what the receiver has by now.
	save(32, "", "beds/row/c")
	if err := s.Done(ctx, replica.Lane{From: 31, To: 32}, waits(replica.Ticket{Key: "beds/a"}, replica.Ticket{Key: "beds/b"}, replica.Ticket{Key: "beds/row", Whole: 1}, replica.Ticket{Key: "beds/row/c"}, replica.Ticket{Key: "shed", Whole: 1})[3:4]); err != nil {
		t.Fatal(err)
	}
	counted(5, 4)
}

// testWaits asks what waits in the backlogs of two replicas, by itself or in a folder
// that waits as a whole.
func testWaits(t *testing.T, db *records.DB) {
	s, ctx := db.Replication(), t.Context()
	set := keptSet(t, db, "waiting", model.ReplicaSet{}, nil)
	from, to := replica.ID(set.Replicas[0].ID), replica.ID(set.Replicas[1].ID)
	lane := replica.Lane{From: from, To: to}
	for whole, key := range map[string]string{"": "alone", "beds/row": "beds/row/rose"} {
		rec := fullRecord(t, key)
		rec.Pending = nil
		if err := s.Save(ctx, replica.Change{Replica: from, Records: []replica.Record{rec}, Queue: []replica.Lane{lane}, Whole: whole}); err != nil {
			t.Fatal(err)
		}
	}
	wanted := map[string]bool{"alone": true, "beds/row": true, "beds/row/rose": true, "beds/row/other": true,
		"beds": false, "beds/row/rose/leaf": false, "alone/leaf": false, "row": false, "none": false}
	keys := slices.Collect(maps.Keys(wanted))
	for i := range 2 * 200 { // more than one query takes
		keys = append(keys, fmt.Sprint("none/", i))
	}
	for _, ends := range [][2]replica.ID{{from, to}, {to, from}} {
		found, err := db.Waits(ctx, ends[0], ends[1], keys)
		if err != nil {
			t.Fatal(err)
		}
		for _, key := range keys {
			w, waits := found[key]
			if waits != wanted[key] || waits && (w.Lane != lane || time.Since(w.Since).Abs() > time.Minute) {
				t.Errorf("%s waits: %v, for %+v", key, waits, w)
			}
		}
	}
	if found, err := db.Waits(ctx, to+1000, to+1001, keys); err != nil || len(found) > 0 {
		t.Errorf("elsewhere wait %v, %v", found, err)
	}
}

// Changes that are saved at the same time do not fail with one that cannot be kept.
func testSavedTogether(t *testing.T, db *records.DB) {
	s, ctx := db.Replication(), t.Context()
	var all sync.WaitGroup
	for i := range 40 {
		all.Go(func() {
			rec := replica.Record{Key: fmt.Sprintf("together/%d", i), Content: replica.Content{Kind: replica.Folder, Name: "n"}}
			if i%8 == 0 {
				rec.Name = strings.Repeat("n", 2000)
			}
			err := s.Save(ctx, replica.Change{Replica: 70, Records: []replica.Record{rec}})
			if (err != nil) != (i%8 == 0) {
				t.Errorf("change %d: %v", i, err)
			}
		})
	}
	all.Wait()
	if kept, err := s.Children(ctx, 70, "together"); err != nil || len(kept) != 35 {
		t.Errorf("%d records are kept, %v; want 35", len(kept), err)
	}
}

// Saving the records of a scan, in the portions in which it does.
func BenchmarkSaveReplicaRecords(b *testing.B) {
	db, err := records.Open(standintest.Database(b).DSN("bridgespan"))
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Migrate(b.Context(), "bench"); err != nil {
		b.Fatal(err)
	}
	s := db.Replication()
	n := 0
	for b.Loop() {
		var part []replica.Record
		for range 500 {
			n++
			part = append(part, replica.Record{Key: fmt.Sprintf("folder %d/file %d", n/100, n), Content: replica.Content{Version: replica.Vector{{Replica: 1, Count: 1}}, Kind: replica.File, Name: fmt.Sprintf("file %d", n), Size: int64(n)}})
		}
		if err := s.Save(b.Context(), replica.Change{Replica: 1, Records: part, Queue: []replica.Lane{{From: 1, To: 2}, {From: 1, To: 3}}}); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(float64(n)/b.Elapsed().Seconds(), "records/s")
}

// testBegun has what was begun outlive the store that began it, unless it was
// noted as done.
func testBegun(t *testing.T, db *records.DB) {
	ctx := t.Context()
	begin := func(s *records.Replication, key string, count int64) replica.Record {
		t.Helper()
		rec := replica.Record{Key: key, Pending: &replica.Pending{Content: replica.Content{Version: replica.Vector{{Replica: 7, Count: count}}, Kind: replica.File, Name: key}, Staged: ".bspan/intake/x"}}
		if err := s.Save(ctx, replica.Change{Replica: 77, Records: []replica.Record{rec}, Begun: true}); err != nil {
			t.Fatal(err)
		}
		return rec
	}
	end := func(s *records.Replication, rec replica.Record) {
		t.Helper()
		rec.Content, rec.Pending = rec.Pending.Content, nil
		if err := s.Save(ctx, replica.Change{Replica: 77, Records: []replica.Record{rec}}); err != nil {
			t.Fatal(err)
		}
	}
	first := db.Replication()
	done, left, again := begin(first, "done", 1), begin(first, "left", 1), begin(first, "again", 1)
	if got, err := first.Get(ctx, 77, "left"); err != nil || got[0].Pending == nil || got[0].Pending.Staged != left.Pending.Staged {
		t.Errorf("what was begun is seen as %+v, %v", got, err)
	}
	if got, err := first.Unfinished(ctx, 77); err != nil || len(got) != 3 {
		t.Errorf("unfinished: %+v, %v", got, err)
	}
	// What is to come is among what is in its folder, or a scan would take it for people's.
	if inside, err := first.Children(ctx, 77, "."); err != nil || len(inside) != 3 || inside[0].Key != "again" || inside[0].Pending == nil {
		t.Errorf("in the folder: %+v, %v", inside, err)
	}
	end(first, done)
	end(first, again)
	begin(first, "again", 2)
	// Another store knows only what the database holds.
	second := db.Replication()
	got, err := second.Get(ctx, 77, "done", "left", "again")
	if err != nil || got[0].Pending != nil || got[0].Kind != replica.File || got[1].Pending == nil || got[1].Kind != replica.None || got[2].Pending == nil || got[2].Version[0].Count != 1 || got[2].Pending.Content.Version[0].Count != 2 {
		t.Errorf("to another store: %+v, %v", got, err)
	}
	end(second, got[1])
	if list, err := db.Replication().Unfinished(ctx, 77); err != nil || len(list) != 1 || list[0].Key != "again" {
		t.Errorf("unfinished to a third one: %+v, %v", list, err)
	}
}

// What waits is listed in its turn, spelled as the sender has it.
func testWaiting(t *testing.T, db *records.DB) {
	ctx, s := t.Context(), db.Replication()
	lane := replica.Lane{From: 71, To: 72}
	save := func(c replica.Change) {
		t.Helper()
		c.Replica, c.Queue = lane.From, []replica.Lane{lane}
		if err := s.Save(ctx, c); err != nil {
			t.Fatal(err)
		}
	}
	rec := func(key, name string, kind replica.Kind, size int64) replica.Record {
		return replica.Record{Key: key, Content: replica.Content{Name: name, Kind: kind, Size: size, Version: replica.Vector{}.Advance(lane.From)}}
	}
	save(replica.Change{Records: []replica.Record{rec("beds", "Beds", replica.Folder, 0), rec("beds/old.txt", "Old.txt", replica.None, 0)}})
	save(replica.Change{Records: []replica.Record{rec("beds/fern.txt", "Fern.TXT", replica.File, 7)}})
	save(replica.Change{Whole: "beds/new", Records: []replica.Record{rec("beds/new", "New", replica.Folder, 0), rec("beds/new/a", "A", replica.File, 3)}})
	tickets, err := s.Backlog(ctx, lane, 10)
	if err != nil {
		t.Fatal(err)
	}
	for _, ticket := range tickets {
		if ticket.Key == "beds/fern.txt" {
			if err := s.Failed(ctx, lane, []replica.Ticket{ticket}); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := s.KeepPartial(ctx, lane.To, chunk.Partial{Key: "beds/fern.txt", Staged: "x", Bytes: 4, Kept: time.Now()}); err != nil {
		t.Fatal(err)
	}
	list, err := db.Waiting(ctx, lane, 10)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, w := range list {
		got = append(got, fmt.Sprint(w.Path, " ", w.Kind, " ", w.Bytes, " ", w.Arrived, " ", w.Within, " ", w.Tried, " ", w.NextTry != nil))
		if time.Since(w.Since) > time.Hour {
			t.Errorf("%s waits since %v", w.Path, w.Since)
		}
	}
	slices.Sort(got[:2]) // they came together
	if want := []string{"Beds folder 0 0 0 0 false", "Beds/Old.txt gone 0 0 0 0 false", "Beds/New folder 0 0 2 0 false", "Beds/Fern.TXT file 7 4 0 1 true"}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	if b, err := db.Backlog(ctx, lane); err != nil || b.Files != 5 || b.Bytes != 7-4+3 {
		t.Errorf("the backlog is %+v, %v", b, err)
	}
	if few, err := db.Waiting(ctx, lane, 1); err != nil || len(few) != 1 {
		t.Errorf("one of them: %v, %v", few, err)
	}
}
