package records_test

import (
	"context"
	"database/sql"
	"testing"
	"time"

	"bridgespan/core/replica"
	"bridgespan/records"
)

// lockedRecords keeps the records of a replica locked until they are released.
func lockedRecords(t *testing.T, dsn string, r replica.ID) (release func()) {
	t.Helper()
	pool, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { pool.Close() })
	tx, err := pool.BeginTx(t.Context(), nil)
	if err == nil {
		_, err = tx.Exec(`SELECT kind FROM replica_records WHERE replica_id = ? FOR UPDATE`, r)
	}
	if err != nil {
		t.Fatal(err)
	}
	return func() { _ = tx.Rollback() }
}

// awaitKeeping waits until the database is keeping a record.
func awaitKeeping(t *testing.T, dsn string) {
	t.Helper()
	pool, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer pool.Close()
	for waiting := 0; waiting == 0; {
		if err := pool.QueryRowContext(t.Context(), `SELECT COUNT(*) FROM information_schema.processlist WHERE info LIKE '%replica_records%' AND id <> CONNECTION_ID()`).Scan(&waiting); err != nil {
			t.Fatal(err)
		}
	}
}

// A change that the database is keeping when its context ends is not left behind: Save
// returns when its outcome is known. One that waits behind it is withdrawn.
func testSaveWaitsForTheOutcome(t *testing.T, db *records.DB, dsn string) {
	store := db.Replication()
	r := replica.ID(4711)
	record := func(version int64) replica.Change {
		return replica.Change{Replica: r, Records: []replica.Record{{Key: "late.txt", Content: replica.Content{Kind: replica.File, Name: "late.txt", Version: replica.Vector{{Replica: r, Count: version}}}}}}
	}
	if err := store.Save(t.Context(), record(1)); err != nil {
		t.Fatal(err)
	}
	release := lockedRecords(t, dsn, r)
	defer release()
	ctx, cancel := context.WithCancel(t.Context())
	saved := make(chan error, 1)
	go func() { saved <- store.Save(ctx, record(2)) }()
	awaitKeeping(t, dsn)
	cancel()
	select {
	case err := <-saved:
		t.Fatalf("Save returned %v while the database was still keeping the change", err)
	case <-time.After(200 * time.Millisecond): // that nothing happens cannot be waited for
	}
	release()
	err := <-saved
	got, bad := store.Get(t.Context(), r, "late.txt")
	if bad != nil {
		t.Fatal(bad)
	}
	if kept := got[0].Version[0].Count == 2; kept != (err == nil) {
		t.Errorf("Save returned %v, and the record has version %v", err, got[0].Version)
	}
}
