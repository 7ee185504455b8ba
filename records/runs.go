package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"strings"
	"time"

	"bridgespan/core/fault"
	"bridgespan/model"
)

const runColumns = `SELECT id, kind, subject, state, who, created, started, ended, worked_ms, done_count, done_bytes, fraction, trouble, waits FROM runs`

func scanRun(s scanner) (r model.Run, err error) {
	var started, ended sql.NullTime
	err = s.Scan(&r.ID, &r.Kind, &r.Subject, &r.State, &r.Who, &r.Created, &started, &ended, &r.WorkedMs, &r.Done, &r.Bytes, &r.Fraction, &r.Trouble, &r.Waits)
	if started.Valid {
		r.Started = &started.Time
	}
	if ended.Valid {
		r.Ended = &ended.Time
	}
	return r, err
}

// AddRun adds a run that waits to be worked on.
func (tx *Tx) AddRun(ctx context.Context, r model.Run, settings any) (int64, error) {
	text, err := json.Marshal(settings)
	if err != nil {
		return 0, err
	}
	_, id, err := tx.exec(ctx, `INSERT INTO runs (kind, subject, state, who, created, settings) VALUES (?, ?, 'waiting', ?, ?, ?)`, r.Kind, r.Subject, r.Who, r.Created, text)
	return id, err
}

// Run finds a run.
func (q Queries) Run(ctx context.Context, id int64) (model.Run, error) {
	return one(q.run.QueryRowContext(ctx, runColumns+` WHERE id = ?`, id), scanRun,
		fault.New(fault.NotFound, "list the runs with: bspan run list", "there is no run %d", id))
}

// Runs lists runs, newest first: of one kind and subject, unless these are "".
// Only those before a number are listed, unless it is 0.
func (q Queries) Runs(ctx context.Context, kind, subject string, before int64, limit int) ([]model.Run, error) {
	rows, err := q.run.QueryContext(ctx, runColumns+` WHERE (? = '' OR kind = ?) AND (? = '' OR subject = ?) AND (? = 0 OR id < ?) ORDER BY id DESC LIMIT ?`,
		kind, kind, subject, subject, before, before, limit)
	return collect(rows, err, scanRun)
}

// RunsToWorkOn lists the runs that wait or whose worker may be gone.
func (q Queries) RunsToWorkOn(ctx context.Context) ([]model.Run, error) {
	rows, err := q.run.QueryContext(ctx, runColumns+` WHERE state IN ('waiting', 'running') ORDER BY id LIMIT 100`)
	return collect(rows, err, scanRun)
}

// OpenRuns counts the runs of one person that wait or are worked on.
func (q Queries) OpenRuns(ctx context.Context, who string) (n int, err error) {
	err = q.run.QueryRowContext(ctx, `SELECT COUNT(*) FROM runs WHERE who = ? AND state IN ('waiting', 'running')`, who).Scan(&n)
	return n, err
}

// RunWork is what a worker needs to go on.
type RunWork struct {
	Settings, Result []byte
	Checkpoint       []byte
}

// Work reads what a worker needs to go on.
func (q Queries) Work(ctx context.Context, id int64) (w RunWork, err error) {
	return one(q.run.QueryRowContext(ctx, `SELECT settings, result, checkpoint FROM runs WHERE id = ?`, id),
		func(s scanner) (w RunWork, err error) {
			err = s.Scan(&w.Settings, &w.Result, &w.Checkpoint)
			return w, err
		}, fault.New(fault.NotFound, "list the runs with: bspan run list", "there is no run %d", id))
}

// BeginRun marks a run as worked on.
func (q Queries) BeginRun(ctx context.Context, id int64, now time.Time) (bool, error) {
	rows, _, err := q.exec(ctx, `UPDATE runs SET state = 'running', started = COALESCE(started, ?), ended = NULL, trouble = '' WHERE id = ? AND state IN ('waiting', 'running')`, now, id)
	return rows > 0, err
}

// Progress keeps how far a run is, and reports whether somebody wants it to stop.
func (q Queries) Progress(ctx context.Context, r model.Run) (stop bool, err error) {
	if _, _, err := q.exec(ctx, `UPDATE runs SET worked_ms = ?, done_count = ?, done_bytes = ?, fraction = ?, waits = ? WHERE id = ?`, r.WorkedMs, r.Done, r.Bytes, r.Fraction, short(r.Waits, 1000), r.ID); err != nil {
		return false, err
	}
	return one(q.run.QueryRowContext(ctx, `SELECT stop_wanted FROM runs WHERE id = ?`, r.ID), func(s scanner) (stop bool, err error) {
		err = s.Scan(&stop)
		return stop, err
	}, fault.New(fault.NotFound, "", "run %d is gone", r.ID))
}

// Checkpoint keeps what a run needs to go on, with its progress.
func (q Queries) Checkpoint(ctx context.Context, id int64, checkpoint, result []byte) error {
	_, _, err := q.exec(ctx, `UPDATE runs SET checkpoint = ?, result = COALESCE(?, result) WHERE id = ?`, checkpoint, nullable(result), id)
	return err
}

func nullable(b []byte) any {
	if b == nil {
		return nil
	}
	return b
}

// EndRun keeps how a run came out.
func (tx *Tx) EndRun(ctx context.Context, r model.Run, result []byte, keepCheckpoint bool) error {
	_, _, err := tx.exec(ctx, `UPDATE runs SET state = ?, stop_wanted = FALSE, ended = ?, worked_ms = ?, done_count = ?, done_bytes = ?, fraction = ?, trouble = ?, waits = '',
		result = COALESCE(?, result), checkpoint = IF(?, checkpoint, NULL) WHERE id = ?`,
		r.State, r.Ended, r.WorkedMs, r.Done, r.Bytes, r.Fraction, strings.ToValidUTF8(r.Trouble[:min(len(r.Trouble), 1000)], ""), nullable(result), keepCheckpoint, r.ID)
	return err
}

// WantStop asks a run to stop; one that waits stops at once.
func (tx *Tx) WantStop(ctx context.Context, id int64, now time.Time) error {
	rows, _, err := tx.exec(ctx, `UPDATE runs SET stop_wanted = (state = 'running'), ended = IF(state = 'waiting', ?, ended), state = IF(state = 'waiting', 'stopped', state)
		WHERE id = ? AND state IN ('waiting', 'running')`, now, id)
	if err == nil && rows == 0 {
		return fault.New(fault.Stale, "look at it with: bspan run show", "run %d is not under way", id)
	}
	return err
}

// Again makes a stopped or failed run wait to go on.
func (tx *Tx) Again(ctx context.Context, id int64) error {
	rows, _, err := tx.exec(ctx, `UPDATE runs SET state = 'waiting', stop_wanted = FALSE, ended = NULL, trouble = '' WHERE id = ? AND state IN ('stopped', 'failed')`, id)
	if err == nil && rows == 0 {
		return fault.New(fault.Stale, "look at it with: bspan run show", "run %d is neither stopped nor failed", id)
	}
	return err
}

// RemoveRun forgets a run that ended.
func (tx *Tx) RemoveRun(ctx context.Context, id int64) error {
	rows, _, err := tx.exec(ctx, `DELETE FROM runs WHERE id = ? AND state NOT IN ('waiting', 'running')`, id)
	if err == nil && rows == 0 {
		return fault.New(fault.Stale, "stop it first", "run %d is under way, or gone", id)
	}
	return err
}
