package records_test

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/core/replica"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/standin/standintest"
)

func open(t *testing.T, dsn string) *records.DB {
	t.Helper()
	db, err := records.Open(dsn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db
}

func wantKind(t *testing.T, what string, err error, kind fault.Kind) {
	t.Helper()
	if fault.KindOf(err) != kind {
		t.Errorf("%s: %v, want a fault of kind %d", what, err, kind)
	}
}

func TestRecords(t *testing.T) {
	server := standintest.Database(t)
	dsn := server.DSN("bridgespan")
	t.Run("Migrations", func(t *testing.T) { testMigrations(t, dsn) })
	db := open(t, dsn)
	t.Run("Leases", func(t *testing.T) { testLeases(t, db) })
	t.Run("Leases together", func(t *testing.T) { testRenewAll(t, db) })
	t.Run("Changes", func(t *testing.T) { testChanges(t, db) })
	t.Run("Conflicts", func(t *testing.T) { testConflicts(t, db) })
	t.Run("Runs", func(t *testing.T) { testRuns(t, db) })
	t.Run("Permissions", func(t *testing.T) { testPermissions(t, db) })
	t.Run("Directories", func(t *testing.T) { testDirectories(t, db) })
	t.Run("Entries", func(t *testing.T) { testEntries(t, db) })
	t.Run("Replication", func(t *testing.T) { testReplication(t, db) })
	t.Run("SaveWaitsForTheOutcome", func(t *testing.T) { testSaveWaitsForTheOutcome(t, db, dsn) })
	t.Run("ServerMigrations", func(t *testing.T) { testServerMigrations(t, db) })
	t.Run("CloudSetups", func(t *testing.T) { testCloudSetups(t, db) })
	t.Run("CountReads", func(t *testing.T) { testCountReads(t, db) })
	t.Run("ChangedFolders", func(t *testing.T) { testChangedFolders(t, db) })
	t.Run("EventTokens", func(t *testing.T) { testEventTokens(t, db) })
	t.Run("Orphans", func(t *testing.T) { testOrphans(t, db) })
	t.Run("Postponed", func(t *testing.T) { testPostponed(t, db) })
	t.Run("Waits", func(t *testing.T) { testWaits(t, db) })
	t.Run("WholeFolders", func(t *testing.T) { testWholeFolders(t, db) })
	t.Run("Begun", func(t *testing.T) { testBegun(t, db) })
	t.Run("Packs", func(t *testing.T) { testPacks(t, db) })
	t.Run("ManyPacks", func(t *testing.T) { testManyPacks(t, db) })
	t.Run("QueuePacks", func(t *testing.T) { testQueuePacks(t, db) })
	t.Run("Waiting", func(t *testing.T) { testWaiting(t, db) })
	t.Run("ChunkLists", func(t *testing.T) { testChunkLists(t, db) })
	t.Run("Partials", func(t *testing.T) { testPartials(t, db) })
	t.Run("LongChunkLists", func(t *testing.T) { testLongChunkLists(t, db) })
	t.Run("SavedTogether", func(t *testing.T) { testSavedTogether(t, db) })
	t.Run("AccountMaps", func(t *testing.T) { testAccountMaps(t, db) })
	t.Run("NewLane", func(t *testing.T) { testNewLane(t, db) })
	t.Run("Prefetched", func(t *testing.T) { testPrefetched(t, db) })
	t.Run("LaneInSteps", func(t *testing.T) { testLaneInSteps(t, db) })
	t.Run("Gateway", func(t *testing.T) { testGateway(t, db) })
	t.Run("Away", func(t *testing.T) {
		s := db.Replication()
		few := func(folder string) replica.Change {
			c := replica.Change{Replica: 91}
			for i := range 5 {
				c.Records = append(c.Records, replica.Record{Key: fmt.Sprint(folder, "/", i), Content: replica.Content{Kind: replica.File, Version: replica.Vector{{Replica: 91, Count: 1}}}})
			}
			return c
		}
		if err := s.Save(t.Context(), few("before")); err != nil {
			t.Fatal(err)
		}
		server.Kill()
		_, err := db.Sites(t.Context(), records.All)
		wantKind(t, "a query on a database that is away", err, fault.Unavailable)
		wantKind(t, "keeping records in a database that is away", s.Save(t.Context(), few("meanwhile")), fault.Unavailable)
		_, err = s.Children(t.Context(), 91, "before")
		wantKind(t, "reading records from a database that is away", err, fault.Unavailable)
		if err := server.Restart(); err != nil {
			t.Fatal(err)
		}
		if _, err := db.Sites(t.Context(), records.All); err != nil {
			t.Errorf("after the restart: %v", err)
		}
		if err := s.Save(t.Context(), few("after")); err != nil {
			t.Errorf("keeping records after the restart: %v", err)
		}
		for folder, want := range map[string]int{"before": 5, "meanwhile": 0, "after": 5} {
			if got, err := s.Children(t.Context(), 91, folder); err != nil || len(got) != want {
				t.Errorf("after the restart %d records of what was kept %s are there, %v; want %d", len(got), folder, err, want)
			}
		}
	})
}

// Many instances that start at once apply each migration once.
func testMigrations(t *testing.T, dsn string) {
	var group sync.WaitGroup
	var mu sync.Mutex
	applied := map[string]int{}
	for i := range 6 {
		group.Go(func() {
			names, err := open(t, dsn).Migrate(t.Context(), fmt.Sprint("instance ", i))
			if err != nil {
				t.Error(err)
			}
			mu.Lock()
			defer mu.Unlock()
			for _, name := range names {
				applied[name]++
			}
		})
	}
	group.Wait()
	if len(applied) == 0 {
		t.Error("nothing was applied")
	}
	for name, n := range applied {
		if n != 1 {
			t.Errorf("%s was applied %d times", name, n)
		}
	}
}

// Leases are renewed together, but those that somebody else has or writes under: nobody is waited for.
func testRenewAll(t *testing.T, db *records.DB) {
	ctx := t.Context()
	take := func(name, holder string, length time.Duration) records.Lease {
		l, ok, err := db.Acquire(ctx, name, holder, length)
		if err != nil || !ok {
			t.Fatal(name, ok, err)
		}
		return l
	}
	free, busy, lost := take("free", "a", time.Hour), take("busy", "a", time.Hour), take("lost", "a", -time.Second)
	take("lost", "b", time.Hour)
	asked := []records.Lease{free, busy, lost}
	err := db.Change(records.Under(ctx, busy), func(*records.Tx) error {
		renewed, err := db.RenewAll(ctx, asked, time.Hour)
		if len(renewed) != 1 || !renewed[free] {
			t.Errorf("while one is written under: %v", renewed)
		}
		return err
	})
	if err != nil {
		t.Error(err)
	}
	if renewed, err := db.RenewAll(ctx, asked, -time.Second); err != nil || len(renewed) != 2 || !renewed[busy] {
		t.Errorf("afterwards: %v, %v", renewed, err)
	}
	take("free", "b", time.Hour) // it was renewed for a time that is over
	if renewed, err := db.RenewAll(ctx, asked, time.Hour); err != nil || renewed[free] {
		t.Errorf("of somebody else: %v, %v", renewed, err)
	}
}

func testLeases(t *testing.T, db *records.DB) {
	ctx := t.Context()
	first, ok, err := db.Acquire(ctx, "work", "a", time.Hour)
	if err != nil || !ok {
		t.Fatal(ok, err)
	}
	if _, ok, err := db.Acquire(ctx, "work", "b", time.Hour); ok || err != nil {
		t.Errorf("a lease was given twice: %v, %v", ok, err)
	}
	if err := db.Renew(ctx, first, -time.Second); err != nil { // it expires
		t.Fatal(err)
	}
	second, ok, err := db.Acquire(ctx, "work", "b", time.Hour)
	if err != nil || !ok || second.Fencing <= first.Fencing {
		t.Errorf("after expiry: %+v, %v, %v", second, ok, err)
	}
	if err = db.Renew(ctx, first, time.Hour); !errors.Is(err, records.ErrTakenOver) {
		t.Errorf("renewing a lost lease: %v", err)
	}
	note := func(ctx context.Context) error { return db.ForgetEvents(ctx, time.Unix(0, 0)) }
	change := func(ctx context.Context) error {
		return db.Change(ctx, func(tx *records.Tx) error { return tx.PostponeJob(ctx, model.Job{}, time.Now()) })
	}
	for what, write := range map[string]func(context.Context) error{"a statement": note, "a transaction": change} {
		if err := write(records.Under(ctx, first)); !errors.Is(err, records.ErrTakenOver) {
			t.Errorf("%s under a lost lease: %v", what, err)
		}
		if err := write(records.Under(ctx, second)); err != nil {
			t.Errorf("%s under a lease: %v", what, err)
		}
	}
	if err := db.Release(ctx, second); err != nil {
		t.Fatal(err)
	}
	// Of many who ask at once, one gets it.
	var group sync.WaitGroup
	won := make(chan string, 20)
	for i := range 20 {
		group.Go(func() {
			name := fmt.Sprint("racer ", i)
			if _, ok, err := db.Acquire(ctx, "race", name, time.Hour); err != nil {
				t.Error(err)
			} else if ok {
				won <- name
			}
		})
	}
	group.Wait()
	if len(won) != 1 {
		t.Errorf("%d won the race", len(won))
	}
}

// A change and its record are stored together, or neither is.
func testChanges(t *testing.T, db *records.DB) {
	ctx := t.Context()
	record := func(tx *records.Tx, subject string) error {
		return tx.Record(ctx, model.Change{At: time.Now().UTC(), Who: "w", Action: "site.add", Subject: subject, After: map[string]string{"name": subject}}, "site")
	}
	broken := errors.New("after the record")
	err := db.Change(ctx, func(tx *records.Tx) error {
		return errors.Join(tx.AddSite(ctx, model.Site{Name: "Undone"}), record(tx, "Undone"), broken)
	})
	if !errors.Is(err, broken) {
		t.Fatal(err)
	}
	_, err = db.Site(ctx, "Undone")
	wantKind(t, "a site that was rolled back", err, fault.NotFound)
	if err := db.Change(ctx, func(tx *records.Tx) error {
		return errors.Join(tx.AddSite(ctx, model.Site{Name: "Done"}), record(tx, "Done"))
	}); err != nil {
		t.Fatal(err)
	}
	changes, err := db.Changes(ctx, 0, 10)
	if err != nil || len(changes) != 1 || changes[0].Subject != "Done" || changes[0].Before != nil {
		t.Errorf("changes %+v, %v", changes, err)
	}
	events, err := db.Events(ctx, 0)
	if err != nil || len(events) != 1 || events[0].Topic != "site" {
		t.Errorf("events %+v, %v", events, err)
	}
}

// Transactions that the database ends for the sake of others are tried again.
func testConflicts(t *testing.T, db *records.DB) {
	ctx := t.Context()
	for _, name := range []string{"North", "South"} {
		if err := db.Change(ctx, func(tx *records.Tx) error { return tx.AddSite(ctx, model.Site{Name: name}) }); err != nil {
			t.Fatal(err)
		}
	}
	err := db.Change(ctx, func(tx *records.Tx) error { return tx.AddSite(ctx, model.Site{Name: "NORTH"}) })
	wantKind(t, "a name in another case", err, fault.Taken)
	var group sync.WaitGroup
	for i := range 8 {
		order := []string{"North", "South"}
		if i%2 == 1 {
			order[0], order[1] = order[1], order[0]
		}
		group.Go(func() {
			if err := db.Change(ctx, func(tx *records.Tx) error {
				for _, name := range order { // against each other: deadlocks
					site, err := tx.Site(ctx, name)
					if err != nil {
						return err
					}
					site.Note = fmt.Sprint("by ", i)
					if err := tx.UpdateSite(ctx, name, site); err != nil && fault.KindOf(err) != fault.Stale {
						return err
					}
				}
				return nil
			}); err != nil {
				t.Error(err)
			}
		})
	}
	group.Wait()
	site, err := db.Site(ctx, "north")
	if err != nil {
		t.Fatal(err)
	}
	site.Version--
	err = db.Change(ctx, func(tx *records.Tx) error { return tx.UpdateSite(ctx, "North", site) })
	wantKind(t, "an update on an old version", err, fault.Stale)
}

func testEntries(t *testing.T, db *records.DB) {
	ctx := t.Context()
	names := []string{"a", "a/b", "a/b/c", "a0", "a-b", "ab", "Ä", "z"}
	if err := db.Change(ctx, func(tx *records.Tx) error {
		if err := tx.AddNamespace(ctx, model.Namespace{Name: "n", TTL: 60, Returns: "at-once"}); err != nil {
			return err
		}
		for _, path := range names {
			if _, err := tx.AddEntry(ctx, "n", namespace.Entry{Path: path, Kind: namespace.Folder}); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]int{"a": 2, "a/b": 1, "a/b/c": 0, "A": 2, "z": 0} {
		if n, err := db.CountBelow(ctx, "n", path); err != nil || n != want {
			t.Errorf("below %s: %d, %v; want %d", path, n, err, want)
		}
	}
	// A decomposed name is the same as the composed one.
	if e, err := db.EntryAt(ctx, "n", "a\u0308"); err != nil || e.Path != "Ä" {
		t.Errorf("decomposed: %+v, %v", e, err)
	}
	var seen []string
	page := records.Page{Limit: 3}
	for {
		entries, err := db.Entries(ctx, "n", page)
		if err != nil {
			t.Fatal(err)
		}
		if len(entries) == 0 {
			break
		}
		for _, e := range entries {
			seen = append(seen, e.Path)
		}
		page.After = namespace.Key(entries[len(entries)-1].Path)
	}
	if len(seen) != len(names) {
		t.Errorf("pages give %q", seen)
	}
}

func testRuns(t *testing.T, db *records.DB) {
	ctx, now := t.Context(), time.Now().UTC().Truncate(time.Microsecond)
	var first, second int64
	if err := db.Change(ctx, func(tx *records.Tx) (err error) {
		if first, err = tx.AddRun(ctx, model.Run{Kind: "survey", Subject: "oak/store", Who: "ada", Created: now}, false, map[string]int{"n": 1}); err != nil {
			return err
		}
		second, err = tx.AddRun(ctx, model.Run{Kind: "rights", Subject: "oak/quiet", Who: "ben", Created: now}, false, nil)
		return err
	}); err != nil {
		t.Fatal(err)
	}
	if list, err := db.Runs(ctx, "survey", "", 0, 10); err != nil || len(list) != 1 || list[0].ID != first || list[0].State != model.RunWaiting {
		t.Errorf("surveys %+v, %v", list, err)
	}
	if list, err := db.Runs(ctx, "", "", second, 10); err != nil || len(list) != 1 || list[0].ID != first {
		t.Errorf("before the second %+v, %v", list, err)
	}
	if ok, err := db.BeginRun(ctx, first, now); err != nil || !ok {
		t.Errorf("begin: %v, %v", ok, err)
	}
	if err := db.Checkpoint(ctx, first, []byte("kept"), []byte(`{"so":"far"}`)); err != nil {
		t.Error(err)
	}
	if stop, err := db.Progress(ctx, model.Run{ID: first, Done: 5, Bytes: 7, Fraction: 0.25}); err != nil || stop {
		t.Errorf("progress: %v, %v", stop, err)
	}
	change := func(do func(tx *records.Tx) error) error { return db.Change(ctx, do) }
	if err := change(func(tx *records.Tx) error { return tx.WantStop(ctx, first, now) }); err != nil {
		t.Error(err)
	}
	if stop, err := db.Progress(ctx, model.Run{ID: first, Done: 6, Fraction: 0.5}); err != nil || !stop {
		t.Errorf("progress after somebody wants it to stop: %v, %v", stop, err)
	}
	wantKind(t, "a run under way is removed", change(func(tx *records.Tx) error { return tx.RemoveRun(ctx, first) }), fault.Stale)
	stopped := model.Run{ID: first, State: model.RunStopped, Ended: &now, Done: 6, Fraction: 0.5}
	if err := change(func(tx *records.Tx) error { return tx.EndRun(ctx, stopped, nil, true) }); err != nil {
		t.Error(err)
	}
	if w, err := db.Work(ctx, first); err != nil || string(w.Checkpoint) != "kept" || string(w.Result) != `{"so":"far"}` || string(w.Settings) != `{"n":1}` {
		t.Errorf("kept %q, %v", w, err)
	}
	if err := change(func(tx *records.Tx) error { return tx.Again(ctx, model.Run{ID: first}, false) }); err != nil {
		t.Error(err)
	}
	wantKind(t, "a waiting run goes on", change(func(tx *records.Tx) error { return tx.Again(ctx, model.Run{ID: first}, false) }), fault.Stale)
	// One that waits stops at once.
	if err := change(func(tx *records.Tx) error { return tx.WantStop(ctx, second, now) }); err != nil {
		t.Error(err)
	}
	if r, err := db.Run(ctx, second); err != nil || r.State != model.RunStopped || r.Ended == nil {
		t.Errorf("a waiting run is stopped: %+v, %v", r, err)
	}
	_, err := db.Run(ctx, 9999)
	wantKind(t, "a run that is not there", err, fault.NotFound)
}

// Equal permissions are stored once, whoever stores them.
func testPermissions(t *testing.T, db *records.DB) {
	ctx := t.Context()
	a, err := acl.Parse("O:BAD:(A;;FA;;;BA)")
	if err != nil {
		t.Fatal(err)
	}
	b, err := acl.Parse("O:BAD:(A;;FR;;;WD)")
	if err != nil {
		t.Fatal(err)
	}
	var ids [20]int64
	var group sync.WaitGroup
	for i := range ids {
		group.Go(func() {
			d := []acl.Descriptor{a, b}[i%2]
			if err := db.Change(ctx, func(tx *records.Tx) (err error) { ids[i], err = tx.KeepDescriptor(ctx, d); return err }); err != nil {
				t.Error(err)
			}
		})
	}
	group.Wait()
	for i := range ids {
		if ids[i] != ids[i%2] || ids[0] == ids[1] {
			t.Fatalf("numbers %v", ids)
		}
	}
	var run int64
	if err := db.Change(ctx, func(tx *records.Tx) (err error) {
		if run, err = tx.AddRun(ctx, model.Run{Kind: "rights", Subject: "x", Created: time.Now().UTC()}, false, nil); err != nil {
			return err
		}
		known := map[acl.Descriptor]int64{}
		if err := tx.AddRightsObjects(ctx, run, []records.RightsObject{{Seq: 0, Path: "p", Folder: true, Before: a, After: b}, {Seq: 1, Path: "p/Größe", Before: b, After: a}}, known); err != nil {
			return err
		}
		return tx.KeepSurveyDescriptors(ctx, run, []records.SurveyDescriptor{{Descriptor: a, Files: 3, Sample: "p"}, {Descriptor: b, Folders: 2, Sample: "q"}})
	}); err != nil {
		t.Fatal(err)
	}
	if err := db.MarkRightsObject(ctx, run, 1, "failed", "in use"); err != nil {
		t.Error(err)
	}
	objects, err := db.RightsObjects(ctx, run, -1, false, 10)
	if err != nil || len(objects) != 2 || objects[0].Before != a || objects[1].Path != "p/Größe" || objects[1].Trouble != "in use" {
		t.Errorf("objects %+v, %v", objects, err)
	}
	if back, err := db.RightsObjects(ctx, run, 10, true, 1, "failed"); err != nil || len(back) != 1 || back[0].Seq != 1 {
		t.Errorf("the last that failed %+v, %v", back, err)
	}
	if c, err := db.RightsCounts(ctx, run); err != nil || c.Planned != 1 || c.Failed != 1 {
		t.Errorf("counts %+v, %v", c, err)
	}
}

func testDirectories(t *testing.T, db *records.DB) {
	ctx := t.Context()
	d := model.Directory{Name: "GROVE", SID: "S-1-5-21-1-2-3", Address: "192.0.2.9", Port: 636, Account: "reader@grove.test"}
	if err := db.Change(ctx, func(tx *records.Tx) error { return tx.AddDirectory(ctx, d, []byte("sealed"), "-----BEGIN") }); err != nil {
		t.Fatal(err)
	}
	err := db.Change(ctx, func(tx *records.Tx) error { return tx.AddDirectory(ctx, d, []byte("sealed"), "") })
	wantKind(t, "the same domain twice", err, fault.Taken)
	got, err := db.Directory(ctx, "grove")
	if err != nil || got.SID != d.SID || !got.Private || got.Version != 1 {
		t.Errorf("%+v, %v", got, err)
	}
	if secret, ca, err := db.DirectorySecret(ctx, "GROVE"); err != nil || string(secret) != "sealed" || ca != "-----BEGIN" {
		t.Errorf("secret %q, %q, %v", secret, ca, err)
	}
	wantKind(t, "an old version", db.Change(ctx, func(tx *records.Tx) error { return tx.RemoveDirectory(ctx, "GROVE", 9) }), fault.Stale)
	if err := db.Change(ctx, func(tx *records.Tx) error { return tx.RemoveDirectory(ctx, "GROVE", 1) }); err != nil {
		t.Error(err)
	}
	_, err = db.Directory(ctx, "GROVE")
	wantKind(t, "a forgotten domain", err, fault.NotFound)
}
