package records_test

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"testing"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/offload"
	"bridgespan/core/replica"
	"bridgespan/model"
	"bridgespan/records"
)

// queueAnew makes the first lane of a set a new one, and queues what it has to carry.
func queueAnew(t *testing.T, db *records.DB, set model.ReplicaSet) {
	t.Helper()
	if err := db.QueueAll(t.Context(), laneAnew(t, db, set)); err != nil {
		t.Fatal(err)
	}
}

// laneAnew makes the first lane of a set a new one.
func laneAnew(t *testing.T, db *records.DB, set model.ReplicaSet) model.Lane {
	t.Helper()
	l := set.Lanes[0]
	l.Unqueued = true
	if err := db.Change(t.Context(), func(tx *records.Tx) error {
		if err := tx.RemoveLane(t.Context(), l); err != nil {
			return err
		}
		return tx.AddLane(t.Context(), set.ID, l)
	}); err != nil {
		t.Fatal(err)
	}
	return l
}

// What is queued on a new lane is what its sender has, and what its receiver held
// before: that has to give way.
func testNewLane(t *testing.T, db *records.DB) {
	ctx := t.Context()
	set := keptSet(t, db, "laned", model.ReplicaSet{}, nil)
	from, to := replica.ID(set.Replicas[0].ID), replica.ID(set.Replicas[1].ID)
	at := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	file := func(key string, version replica.Vector) replica.Record {
		return replica.Record{Key: key, Content: replica.Content{Kind: replica.File, Name: key, Size: 7, Modified: at, Version: version}}
	}
	known := replica.Vector{{Replica: from, Count: 1}}
	s := db.Replication()
	for id, list := range map[replica.ID][]replica.Record{from: {file("sent", known)}, to: {file("prior", nil), file("theirs", known), {Key: "gone"}}} {
		if err := s.Save(ctx, replica.Change{Replica: id, Records: list}); err != nil {
			t.Fatal(err)
		}
	}
	lane := replica.Lane{From: from, To: to}
	queueAnew(t, db, set)
	var keys []string
	tickets, err := s.Backlog(ctx, lane, 10)
	for _, ticket := range tickets {
		keys = append(keys, ticket.Key)
	}
	if slices.Sort(keys); err != nil || !slices.Equal(keys, []string{"prior", "sent"}) {
		t.Errorf("queued are %v, %v", keys, err)
	}
	var held []string
	err = db.EachHeld(ctx, to, func(key string, folder bool, size int64, modified time.Time) error {
		held = append(held, fmt.Sprint(key, folder, size, modified.Equal(at)))
		return nil
	})
	if slices.Sort(held); err != nil || !slices.Equal(held, []string{"priorfalse 7 true", "theirsfalse 7 true"}) {
		t.Errorf("held are %v, %v", held, err)
	}
	if rec, err := db.ReplicaRecord(ctx, to, "theirs"); err != nil || rec.Size != 7 {
		t.Errorf("%+v, %v", rec, err)
	}
	if rec, err := db.ReplicaRecord(ctx, to, "nothing"); err != nil || rec.Kind != replica.None {
		t.Errorf("%+v, %v", rec, err)
	}
}

// A new lane is queued in steps. It stays unqueued until all of them are done, whatever broke
// them off, and one that is no longer new, or gone, is left alone. What waits on a lane that
// is gone goes in steps, too, and nothing of one that is there again.
func testLaneInSteps(t *testing.T, db *records.DB) {
	set := keptSet(t, db, "stepped", model.ReplicaSet{}, nil)
	ctx, s := t.Context(), db.Replication()
	lane := replica.Lane{From: replica.ID(set.Lanes[0].FromID), To: replica.ID(set.Lanes[0].ToID)}
	const folders, files = 3, 701
	c := replica.Change{Replica: lane.From}
	for i := range folders * files {
		c.Records = append(c.Records, replica.Record{Key: fmt.Sprintf("%d/file %d", i%folders, i), Content: replica.Content{Kind: replica.File, Name: "f", Version: replica.Vector{{Replica: lane.From, Count: 1}}}})
		if i%folders != 1 { // these are kept as rows, the others in packs
			c.Records[i].Pending = &replica.Pending{}
		}
	}
	if err := s.Save(ctx, c); err != nil {
		t.Fatal(err)
	}
	check := func(when string, want int, unqueued bool) {
		t.Helper()
		tickets, err := s.Backlog(ctx, lane, 2*folders*files)
		kept, err2 := db.ReplicaSet(ctx, set.Name)
		if err != nil || err2 != nil || len(tickets) != want || kept.Lanes[0].Unqueued != unqueued {
			t.Errorf("%s: %d paths wait, unqueued %v, %v, %v; want %d, %v", when, len(tickets), kept.Lanes[0].Unqueued, err, err2, want, unqueued)
		}
	}
	l := laneAnew(t, db, set)
	broken, breakOff := context.WithCancel(ctx)
	breakOff()
	if err := db.QueueAll(broken, l); err == nil {
		t.Error("it queued with a context that had ended")
	}
	check("broken off", 0, true)
	if err := db.QueueAll(ctx, l); err != nil {
		t.Fatal(err)
	}
	check("queued", folders*files, false)
	laneAnew(t, db, set) // there again before what waited is removed
	if _, err := db.Prune(ctx, records.Retention{}, time.Now()); err != nil {
		t.Fatal(err)
	}
	check("there again", folders*files, true)
	remove := func() {
		t.Helper()
		if err := db.Change(ctx, func(tx *records.Tx) error { return tx.RemoveLane(ctx, l) }); err != nil {
			t.Fatal(err)
		}
	}
	remove()
	if _, err := db.Prune(ctx, records.Retention{}, time.Now()); err != nil {
		t.Fatal(err)
	}
	if err := db.QueueAll(ctx, l); err != nil {
		t.Errorf("of a lane that is gone: %v", err)
	}
	if tickets, err := s.Backlog(ctx, lane, 10); err != nil || len(tickets) > 0 {
		t.Errorf("on a lane that is gone wait %v, %v", tickets, err)
	}
}

// What an edge was prefetched is kept until it is used, or old.
func testPrefetched(t *testing.T, db *records.DB) {
	ctx := t.Context()
	set := keptSet(t, db, "prefetched", model.ReplicaSet{}, nil)
	id := replica.ID(set.Replicas[0].ID)
	at := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	store := func(before time.Time, list ...offload.Prefetched) {
		t.Helper()
		if err := db.StorePrefetched(ctx, id, list, before); err != nil {
			t.Fatal(err)
		}
	}
	want := func(what string, unused int, figures offload.PrefetchFigures) {
		t.Helper()
		list, err := db.Prefetched(ctx, id, 10)
		if err != nil || len(list) != unused {
			t.Errorf("%s: %+v, %v; want %d", what, list, err, unused)
		}
		if f, err := db.PrefetchFigures(ctx, id, at); err != nil || !f.First.Equal(figures.First) || f.Files != figures.Files || f.Bytes != figures.Bytes || f.Used != figures.Used {
			t.Errorf("%s: %+v, %v; want %+v", what, f, err, figures)
		}
	}
	a, b := offload.Prefetched{Path: "a.tif", Bytes: 7, At: at}, offload.Prefetched{Path: "b.tif", Bytes: 5, At: at.Add(time.Hour)}
	store(at, a, b)
	want("on their way", 2, offload.PrefetchFigures{})
	a.Seen, b.Seen, b.Used = at.Add(time.Minute), at.Add(2*time.Hour), at.Add(3*time.Hour)
	store(at, a, b)
	want("one was used", 1, offload.PrefetchFigures{Files: 2, Bytes: 12, Used: 1, First: at})
	store(at.Add(time.Minute))
	want("one is old", 0, offload.PrefetchFigures{Files: 1, Bytes: 5, Used: 1, First: b.At})
}

// A draft is changed by its version, and forgets what the checks found; what checks of an older draft find is not stored.
func testCloudSetups(t *testing.T, db *records.DB) {
	ctx := t.Context()
	c := model.CloudSetup{Name: "Scans", CloudDraft: model.CloudDraft{Account: "haar", Edges: []model.DraftEdge{{Server: "oak", Seed: true}}}, Changed: time.Now().UTC().Truncate(time.Microsecond), By: "ivy"}
	change := func(do func(tx *records.Tx) error) error { return db.Change(ctx, do) }
	if err := change(func(tx *records.Tx) error { return tx.AddCloudSetup(ctx, c) }); err != nil {
		t.Fatal(err)
	}
	wantKind(t, "a second one", change(func(tx *records.Tx) error { c := c; c.Name = "scans"; return tx.AddCloudSetup(ctx, c) }), fault.Taken)
	got, err := db.CloudSetup(ctx, "scans")
	if err != nil || got.Name != c.Name || got.Account != "haar" || len(got.Edges) != 1 || !got.Changed.Equal(c.Changed) || got.By != "ivy" || got.Checked != nil {
		t.Fatalf("%+v, %v", got, err)
	}
	got.Steps, got.Checked = []model.SetupStep{{Step: model.SetupAccount, State: model.SetupPassed}}, &c.Changed
	if err := db.StoreSetupChecks(ctx, got); err != nil {
		t.Fatal(err)
	}
	if got, err = db.CloudSetup(ctx, "scans"); err != nil || len(got.Steps) != 1 || got.Checked == nil {
		t.Errorf("checked: %+v, %v", got, err)
	}
	old := got
	got.Bucket = "scans"
	if err := change(func(tx *records.Tx) error { return tx.UpdateCloudSetup(ctx, got) }); err != nil {
		t.Fatal(err)
	}
	wantKind(t, "a change of an old draft", change(func(tx *records.Tx) error { return tx.UpdateCloudSetup(ctx, old) }), fault.Stale)
	if err := db.StoreSetupChecks(ctx, old); err != nil {
		t.Fatal(err)
	}
	if got, err = db.CloudSetup(ctx, "scans"); err != nil || got.Bucket != "scans" || len(got.Steps) != 0 || got.Checked != nil {
		t.Errorf("changed: %+v, %v", got, err)
	}
	if err := db.StoreSetupStart(ctx, "scans", 7); err != nil {
		t.Fatal(err)
	}
	list, err := db.CloudSetups(ctx, records.All)
	if err != nil || len(list) != 1 || list[0].Start != 7 {
		t.Errorf("%+v, %v", list, err)
	}
	wantKind(t, "the removal of an old draft", change(func(tx *records.Tx) error { return tx.RemoveCloudSetup(ctx, old) }), fault.Stale)
	if err := db.EndCloudSetup(ctx, "scans"); err != nil {
		t.Fatal(err)
	}
	_, err = db.CloudSetup(ctx, "scans")
	wantKind(t, "one that ended", err, fault.NotFound)
}

// Reads are added to their month by how much the counters have grown; a counter that begins anew loses nothing.
func testCountReads(t *testing.T, db *records.DB) {
	set := keptSet(t, db, "read", model.ReplicaSet{}, nil)
	ctx, r := t.Context(), replica.ID(set.Replicas[0].ID)
	november, december := time.Date(2026, 11, 30, 23, 59, 0, 0, time.UTC), time.Date(2026, 12, 1, 0, 1, 0, 0, time.UTC)
	for _, c := range []struct {
		at       time.Time
		counters records.EdgeCounters
	}{
		{november, records.EdgeCounters{Carried: 100, Fetched: 10}}, {november, records.EdgeCounters{Carried: 100, Fetched: 10}}, {november, records.EdgeCounters{Carried: 150, Fetched: 30}},
		{december, records.EdgeCounters{Carried: 151, Fetched: 5}}, // the mover was started again
		{december, records.EdgeCounters{Carried: 151, Fetched: 7}},
	} {
		if err := db.Change(ctx, func(tx *records.Tx) error { return tx.CountReads(ctx, r, c.at, c.counters) }); err != nil {
			t.Fatal(err)
		}
	}
	months, err := db.MonthlyReads(ctx, r, 12)
	if err != nil || len(months) != 2 || months[0] != (model.MonthlyReads{Month: "2026-12", Bytes: 8}) || months[1] != (model.MonthlyReads{Month: "2026-11", Bytes: 180}) {
		t.Errorf("%+v, %v", months, err)
	}
	if months, err = db.MonthlyReads(ctx, r, 1); err != nil || len(months) != 1 {
		t.Errorf("the newest: %+v, %v", months, err)
	}
}

// Folders in which something changed are told once, to whoever keeps the set; of too many, all of the replica is scanned.
func testChangedFolders(t *testing.T, db *records.DB) {
	set := keptSet(t, db, "news", model.ReplicaSet{}, nil)
	ctx, id := t.Context(), set.Replicas[0].ID
	tell := func(folders ...string) {
		t.Helper()
		if err := db.Change(ctx, func(tx *records.Tx) error { return tx.AddChangedFolders(ctx, set.ID, id, folders) }); err != nil {
			t.Fatal(err)
		}
	}
	wanted := func() records.Wanted {
		t.Helper()
		w, err := db.Wanted(ctx, set.ID)
		if err != nil {
			t.Fatal(err)
		}
		return w
	}
	tell("a/b", "ü")
	tell("a/b")
	if got := wanted().Folders[replica.ID(id)]; len(got) != 2 || !slices.Contains(got, "a/b") || !slices.Contains(got, "ü") {
		t.Errorf("told are %q", got)
	}
	if w := wanted(); len(w.Folders) != 0 || len(w.Looks) != 0 {
		t.Errorf("told twice: %+v", w)
	}
	var many []string
	for i := range 1001 {
		many = append(many, fmt.Sprint(i))
	}
	tell(many...)
	if w := wanted(); len(w.Folders) != 0 || !slices.Contains(w.Looks, replica.ID(id)) {
		t.Errorf("of too many: %d folders, %v", len(w.Folders), w.Looks)
	}
}

func testEventTokens(t *testing.T, db *records.DB) {
	set := keptSet(t, db, "told", model.ReplicaSet{}, nil)
	ctx, server := t.Context(), set.Replicas[0].Server
	hash := func(b byte) []byte { return bytes.Repeat([]byte{b}, 32) }
	for _, b := range []byte{1, 2} {
		if err := db.Change(ctx, func(tx *records.Tx) error { return tx.SetEventToken(ctx, server, hash(b), time.Now()) }); err != nil {
			t.Fatal(err)
		}
	}
	for b, want := range map[byte]string{1: "", 2: server, 3: ""} {
		if got, err := db.EventServer(ctx, hash(b)); err != nil || got != want {
			t.Errorf("the token %d is that of %q, %v; want %q", b, got, err, want)
		}
	}
}

func testServerMigrations(t *testing.T, db *records.DB) {
	ctx := t.Context()
	m := model.Migration{Name: "Fern", MigrationDraft: model.MigrationDraft{Sources: []string{"fern"}, Leave: []string{"fern/council"}, Note: "old"}, Changed: time.Now().UTC().Truncate(time.Microsecond), By: "ivy"}
	change := func(do func(tx *records.Tx) error) error { return db.Change(ctx, do) }
	if err := change(func(tx *records.Tx) error { return tx.AddMigration(ctx, m) }); err != nil {
		t.Fatal(err)
	}
	wantKind(t, "a second one", change(func(tx *records.Tx) error { m := m; m.Name = "FERN"; return tx.AddMigration(ctx, m) }), fault.Taken)
	got, err := db.Migration(ctx, "fern")
	if err != nil || got.Name != m.Name || len(got.Sources) != 1 || len(got.Leave) != 1 || got.Note != "old" || !got.Changed.Equal(m.Changed) || got.By != "ivy" {
		t.Fatalf("%+v, %v", got, err)
	}
	old := got
	got.Note = "older"
	if err := change(func(tx *records.Tx) error { return tx.UpdateMigration(ctx, got) }); err != nil {
		t.Fatal(err)
	}
	wantKind(t, "a change of an old draft", change(func(tx *records.Tx) error { return tx.UpdateMigration(ctx, old) }), fault.Stale)
	wantKind(t, "the removal of an old draft", change(func(tx *records.Tx) error { return tx.RemoveMigration(ctx, old) }), fault.Stale)
	list, err := db.Migrations(ctx, records.All)
	if err != nil || len(list) != 1 || list[0].Note != "older" {
		t.Fatalf("%+v, %v", list, err)
	}
	if err := change(func(tx *records.Tx) error { return tx.RemoveMigration(ctx, list[0]) }); err != nil {
		t.Fatal(err)
	}
	_, err = db.Migration(ctx, "fern")
	wantKind(t, "one that was removed", err, fault.NotFound)
}
