package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"bridgespan/core/changes"
	"bridgespan/core/fault"
	"bridgespan/model"
)

// Record writes what was changed, and tells everybody who watches the topic.
// before and after are stored as JSON; nil means that there was, or is, nothing.
func (q Queries) Record(ctx context.Context, c model.Change, topic string) error {
	return q.RecordAll(ctx, []model.Change{c}, topic, c.Subject)
}

func state(v any) (any, error) {
	if v == nil {
		return nil, nil
	}
	return json.Marshal(v)
}

const changeColumns = `SELECT id, at, who, action, subject, before_state, after_state FROM changes`

func scanChange(s scanner) (c model.Change, err error) {
	var was, is []byte
	if err = s.Scan(&c.ID, &c.At, &c.Who, &c.Action, &c.Subject, &was, &is); err != nil {
		return c, err
	}
	if was != nil {
		c.Before = json.RawMessage(was)
	}
	if is != nil {
		c.After = json.RawMessage(is)
	}
	if c.Words = changes.Words(was, is); c.Words == nil {
		c.Words = []string{}
	}
	return c, nil
}

// Since adds to a fault that says that something was changed by somebody else
// who that was, when, and what they changed after it had a version.
func (q Queries) Since(ctx context.Context, err error, subject string, version int64) error {
	var e *fault.Error
	if !errors.As(err, &e) || e.Kind != fault.Stale {
		return err
	}
	rows, queryErr := q.run.QueryContext(ctx, changeColumns+` WHERE subject = ? AND JSON_VALUE(before_state, '$.version') >= ? ORDER BY id DESC LIMIT 5`, subject, version)
	list, queryErr := collect(rows, queryErr, scanChange)
	if queryErr != nil || len(list) == 0 {
		return err
	}
	told := *e
	slices.Reverse(list)
	for _, c := range list {
		what := strings.Join(c.Words, ", ")
		switch {
		case c.After == nil:
			what = "it was removed"
		case what == "":
			what = c.Action
		}
		told.Problem += fmt.Sprintf("; %s, %s: %s", c.Who, c.At.UTC().Format("2 Jan 15:04 UTC"), what)
	}
	return &told
}

// Changes lists changes, newest first, before the number given (0 for the newest).
func (q Queries) Changes(ctx context.Context, before int64, limit int) ([]model.Change, error) {
	rows, err := q.run.QueryContext(ctx, changeColumns+` WHERE ? = 0 OR id < ? ORDER BY id DESC LIMIT ?`, before, before, limit)
	return collect(rows, err, scanChange)
}

// eventLife is how long events are kept: longer than any watcher may be away
// before it reads everything again.
const eventLife = time.Hour

// NamespaceChanges lists the changes of a namespace and of its entries, newest
// first: before a number unless it is 0, and not before the number from.
func (q Queries) NamespaceChanges(ctx context.Context, name string, before, from int64, limit int) ([]model.Change, error) {
	rows, err := q.run.QueryContext(ctx, changeColumns+` WHERE (? = 0 OR id < ?) AND id >= ? AND (subject = ? AND action LIKE 'namespace.%' OR subject LIKE CONCAT('/', ?, '/%') AND (action LIKE 'entry.%' OR action LIKE 'location.%')) ORDER BY id DESC LIMIT ?`,
		before, before, from, name, name, limit)
	return collect(rows, err, scanChange)
}

// Tell adds an event for everybody who watches a topic.
func (q Queries) Tell(ctx context.Context, topic, subject string, now time.Time) error {
	return q.tell(ctx, topic, subject, false, now)
}

func (q Queries) tell(ctx context.Context, topic, subject string, recorded bool, now time.Time) error {
	_, _, err := q.exec(ctx, `INSERT INTO events (at, topic, subject, recorded) VALUES (?, ?, ?, ?)`, now, topic, subject, recorded)
	return err
}

// Events lists events after a number.
func (q Queries) Events(ctx context.Context, after int64) ([]model.Event, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT id, topic, subject, recorded FROM events WHERE id > ? ORDER BY id LIMIT 1000`, after)
	return collect(rows, err, func(s scanner) (e model.Event, err error) {
		err = s.Scan(&e.ID, &e.Topic, &e.Subject, &e.Recorded)
		return e, err
	})
}

// LastEvent is the number of the newest event.
func (q Queries) LastEvent(ctx context.Context) (id int64, err error) {
	err = q.run.QueryRowContext(ctx, `SELECT COALESCE(MAX(id), 0) FROM events`).Scan(&id)
	return id, unavailable(err)
}

// ForgetEvents removes old events.
func (q Queries) ForgetEvents(ctx context.Context, now time.Time) error {
	_, _, err := q.exec(ctx, `DELETE FROM events WHERE at < ?`, now.Add(-eventLife))
	return err
}

// Retention is for how long records are kept of what is over; 0 keeps them for ever.
type Retention struct {
	Runs    time.Duration // that have ended, but for the latest of each kind and subject
	Health  time.Duration // of locations, but for how each was found last
	Changes time.Duration // the record of who changed what
}

// Pruned is how many rows were removed.
type Pruned struct{ Runs, Health, Changes, Leases, Replicas int64 }

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
	if p.Leases, err = db.prune(ctx, `DELETE FROM leases WHERE expires < ?`, before(leaseLife)); err != nil {
		return p, err
	}
	if p.Replicas, err = db.pruneReplicas(ctx); err != nil {
		return p, err
	}
	return p, db.pruneLanes(ctx)
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
