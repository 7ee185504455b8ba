package records_test

import (
	"testing"
	"time"

	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/standin/standintest"
)

// What is over goes when it is older than is kept: runs with what they have found, but for
// the latest of each kind and subject; changes only by a rule.
func TestPrune(t *testing.T) {
	db, _ := standintest.Records(t)
	ctx, now := t.Context(), time.Now().UTC().Truncate(time.Microsecond)
	long, ids := now.AddDate(-2, 0, 0), map[string]int64{}
	add := func(name, subject string, ended *time.Time) {
		t.Helper()
		if err := db.Change(ctx, func(tx *records.Tx) (err error) {
			if ids[name], err = tx.AddRun(ctx, model.Run{Kind: "survey", Subject: subject, Who: "ada", Created: long}, false, nil); err != nil || ended == nil {
				return err
			}
			return tx.EndRun(ctx, model.Run{ID: ids[name], State: model.RunDone, Ended: ended}, nil, false)
		}); err != nil {
			t.Fatal(err)
		}
	}
	recent := now.Add(-time.Hour)
	add("old", "oak", &long)
	add("old, the latest", "elm", &long)
	add("recent", "oak", &recent)
	add("waits", "oak", nil)
	if err := db.Record(ctx, model.Change{At: long, Who: "ada", Action: "site.add", Subject: "Lowland"}, "site"); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		keep          records.Retention
		runs, changes int64
	}{
		{records.Retention{}, 0, 0},
		{records.Retention{Runs: 365 * 24 * time.Hour}, 1, 0},
		{records.Retention{Runs: 365 * 24 * time.Hour, Changes: 365 * 24 * time.Hour}, 0, 1},
	} {
		p, err := db.Prune(ctx, c.keep, now)
		if err != nil || p.Runs != c.runs || p.Changes != c.changes {
			t.Errorf("kept %+v: %+v, %v", c.keep, p, err)
		}
	}
	for name, id := range ids {
		if _, err := db.Run(ctx, id); (fault.KindOf(err) == fault.NotFound) != (name == "old") {
			t.Errorf("%s: %v", name, err)
		}
	}
}
