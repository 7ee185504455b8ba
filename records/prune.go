package records

import (
	"context"
	"strings"
	"time"
)

// Retention is for how long records are kept of what is over; 0 keeps them for ever.
type Retention struct {
	Runs    time.Duration // that have ended, but for the latest of each kind and subject
	Health  time.Duration // of locations, but for how each was found last
	Changes time.Duration // the record of who changed what
}

// Pruned is how many rows were removed.
type Pruned struct{ Runs, Health, Changes, Leases int64 }

// pruneRows is how much is removed in one statement: others wait for no more than that, and
// the nodes of a cluster take it.
const pruneRows = 1000

// leaseLife is how long a lease is remembered that nobody has. A holder that stood still for
// longer could take its number for that of the next one.
const leaseLife = 30 * 24 * time.Hour

// runTables hold what runs have found, each row with the number of its run.
var runTables = []string{"survey_descriptors", "rights_objects", "rights_differences", "verify_findings", "verify_sums"}

// Prune removes what is older than is kept, in many small steps, until ctx ends.
func (db *DB) Prune(ctx context.Context, keep Retention, now time.Time) (p Pruned, err error) {
	before := func(age time.Duration) time.Time { return now.Add(-age) }
	if keep.Runs > 0 {
		if p.Runs, err = db.pruneRuns(ctx, before(keep.Runs)); err != nil {
			return p, err
		}
	}
	if keep.Health > 0 {
		if p.Health, err = db.prune(ctx, `DELETE FROM location_health WHERE at < ? AND id NOT IN (SELECT id FROM (SELECT MAX(id) id FROM location_health GROUP BY location_id) last)`, before(keep.Health)); err != nil {
			return p, err
		}
	}
	if keep.Changes > 0 {
		if p.Changes, err = db.prune(ctx, `DELETE FROM changes WHERE at < ?`, before(keep.Changes)); err != nil {
			return p, err
		}
	}
	p.Leases, err = db.prune(ctx, `DELETE FROM leases WHERE expires < ?`, before(leaseLife))
	return p, err
}

// prune repeats a DELETE until it finds nothing more.
func (db *DB) prune(ctx context.Context, statement string, args ...any) (all int64, err error) {
	for {
		rows, _, err := db.exec(ctx, statement+` LIMIT ?`, append(args, pruneRows)...)
		if all += rows; err != nil || rows < pruneRows {
			return all, err
		}
	}
}

func (db *DB) pruneRuns(ctx context.Context, before time.Time) (all int64, err error) {
	for {
		rows, err := db.run.QueryContext(ctx, `SELECT id FROM runs WHERE ended < ? AND state NOT IN ('waiting', 'running')
			AND id NOT IN (SELECT id FROM (SELECT MAX(id) id FROM runs GROUP BY kind, subject) last) ORDER BY id LIMIT ?`, before, pruneRows)
		ids, err := collect(rows, err, func(s scanner) (id any, err error) {
			var n int64
			err = s.Scan(&n)
			return n, err
		})
		if err != nil || len(ids) == 0 {
			return all, err
		}
		among := ` IN (?` + strings.Repeat(", ?", len(ids)-1) + `)`
		for _, table := range runTables {
			if _, err := db.prune(ctx, `DELETE FROM `+table+` WHERE run_id`+among, ids...); err != nil {
				return all, err
			}
		}
		n, err := db.prune(ctx, `DELETE FROM runs WHERE id`+among, ids...)
		if all += n; err != nil {
			return all, err
		}
	}
}
