package records_test

import (
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
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
	t.Run("Changes", func(t *testing.T) { testChanges(t, db) })
	t.Run("Conflicts", func(t *testing.T) { testConflicts(t, db) })
	t.Run("Entries", func(t *testing.T) { testEntries(t, db) })
	t.Run("Away", func(t *testing.T) {
		server.Kill()
		_, err := db.Sites(t.Context(), records.All)
		wantKind(t, "a query on a database that is away", err, fault.Unavailable)
		if err := server.Restart(); err != nil {
			t.Fatal(err)
		}
		if _, err := db.Sites(t.Context(), records.All); err != nil {
			t.Errorf("after the restart: %v", err)
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

func testLeases(t *testing.T, db *records.DB) {
	ctx := t.Context()
	first, ok, err := db.Acquire(ctx, "work", "a", time.Hour)
	if err != nil || !ok {
		t.Fatal(ok, err)
	}
	if _, ok, err := db.Acquire(ctx, "work", "b", time.Hour); ok || err != nil {
		t.Errorf("a lease was given twice: %v, %v", ok, err)
	}
	if _, err := db.Renew(ctx, first, -time.Second); err != nil { // it expires
		t.Fatal(err)
	}
	second, ok, err := db.Acquire(ctx, "work", "b", time.Hour)
	if err != nil || !ok || second.Fencing <= first.Fencing {
		t.Errorf("after expiry: %+v, %v, %v", second, ok, err)
	}
	_, err = db.Renew(ctx, first, time.Hour)
	wantKind(t, "renewing a lost lease", err, fault.Stale)
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
		if err := tx.AddNamespace(ctx, model.Namespace{Name: "n", TTL: 60}); err != nil {
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
