package records

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/verify"
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

// AddRun adds a run that waits to be worked on. Of an exclusive one there is no other one
// of its kind and subject that is open: else it returns a Taken fault.
func (tx *Tx) AddRun(ctx context.Context, r model.Run, exclusive bool, settings any) (int64, error) {
	text, err := json.Marshal(settings)
	if err != nil {
		return 0, err
	}
	_, id, err := tx.exec(ctx, `INSERT INTO runs (kind, subject, state, who, created, settings, exclusive_key) VALUES (?, ?, 'waiting', ?, ?, ?, ?)`,
		r.Kind, r.Subject, r.Who, r.Created, text, exclusiveKey(r, exclusive))
	return id, tx.openAlready(ctx, r, err)
}

// exclusiveKey is the same for all runs of one kind and subject; nil for one that is not exclusive.
func exclusiveKey(r model.Run, exclusive bool) any {
	if !exclusive {
		return nil
	}
	key := sha256.Sum256([]byte(r.Kind + "\x00" + r.Subject))
	return key[:]
}

// openAlready tells which run is in the way of an exclusive one.
func (tx *Tx) openAlready(ctx context.Context, r model.Run, err error) error {
	if number(err) != errDuplicate {
		return err
	}
	var open int64
	if bad := tx.run.QueryRowContext(ctx, `SELECT id FROM runs WHERE exclusive_key = ?`, exclusiveKey(r, true)).Scan(&open); bad != nil && !errors.Is(bad, sql.ErrNoRows) {
		return unavailable(bad)
	}
	return fault.New(fault.Taken, fmt.Sprintf("wait for it, or stop it first: bspan run stop %d", open), "run %d, a %s of %s, has not ended yet", open, r.Kind, r.Subject).Because(err)
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

// LeaseOfRun is the name of the lease under which a run is worked on.
func LeaseOfRun(id int64) string { return fmt.Sprintf("run %d", id) }

// RunsToTakeUp lists the first runs of some kinds that wait, or whose worker is gone.
func (q Queries) RunsToTakeUp(ctx context.Context, kinds []string, limit int) ([]model.Run, error) {
	if len(kinds) == 0 {
		return nil, nil
	}
	args := []any{}
	for _, kind := range kinds {
		args = append(args, kind)
	}
	rows, err := q.run.QueryContext(ctx, runColumns+` WHERE state IN ('waiting', 'running') AND kind IN (?`+strings.Repeat(", ?", len(kinds)-1)+`)
		AND NOT EXISTS (SELECT 1 FROM leases WHERE leases.name = CONCAT('run ', runs.id) AND expires > UTC_TIMESTAMP(6)) ORDER BY id LIMIT ?`, append(args, limit)...)
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
		result = COALESCE(?, result), checkpoint = IF(?, checkpoint, NULL), exclusive_key = NULL WHERE id = ?`,
		r.State, r.Ended, r.WorkedMs, r.Done, r.Bytes, r.Fraction, strings.ToValidUTF8(r.Trouble[:min(len(r.Trouble), 1000)], ""), nullable(result), keepCheckpoint, r.ID)
	return err
}

// WantStop asks a run to stop; one that waits stops at once.
func (tx *Tx) WantStop(ctx context.Context, id int64, now time.Time) error {
	rows, _, err := tx.exec(ctx, `UPDATE runs SET stop_wanted = (state = 'running'), ended = IF(state = 'waiting', ?, ended), exclusive_key = IF(state = 'waiting', NULL, exclusive_key), state = IF(state = 'waiting', 'stopped', state)
		WHERE id = ? AND state IN ('waiting', 'running')`, now, id)
	if err == nil && rows == 0 {
		return fault.New(fault.Stale, "look at it with: bspan run show", "run %d is not under way", id)
	}
	return err
}

// Again makes a stopped or failed run wait to go on. It returns what AddRun does.
func (tx *Tx) Again(ctx context.Context, r model.Run, exclusive bool) error {
	rows, _, err := tx.exec(ctx, `UPDATE runs SET state = 'waiting', stop_wanted = FALSE, ended = NULL, trouble = '', exclusive_key = ? WHERE id = ? AND state IN ('stopped', 'failed')`,
		exclusiveKey(r, exclusive), r.ID)
	if err == nil && rows == 0 {
		return fault.New(fault.Stale, "look at it with: bspan run show", "run %d is neither stopped nor failed", r.ID)
	}
	return tx.openAlready(ctx, r, err)
}

// RemoveRun forgets a run that ended.
func (tx *Tx) RemoveRun(ctx context.Context, id int64) error {
	rows, _, err := tx.exec(ctx, `DELETE FROM runs WHERE id = ? AND state NOT IN ('waiting', 'running')`, id)
	if err == nil && rows == 0 {
		return fault.New(fault.Stale, "stop it first", "run %d is under way, or gone", id)
	}
	return err
}

const scheduleColumns = `SELECT s.id, s.kind, s.subject, s.settings, s.rule, s.enabled, s.who, s.created, s.next, s.last_run, COALESCE(r.state, ''), COALESCE(r.trouble, ''), s.version FROM schedules s LEFT JOIN runs r ON r.id = s.last_run`

func scanSchedule(s scanner) (job model.Job, err error) {
	var last sql.NullInt64
	err = s.Scan(&job.ID, &job.Kind, &job.Subject, &job.Settings, &job.Rule, &job.Enabled, &job.Who, &job.Created, &job.Next, &last, &job.LastState, &job.LastTrouble, &job.Version)
	job.LastRun = last.Int64
	return job, err
}

// AddJob adds work that is done again and again, and returns its number.
func (tx *Tx) AddJob(ctx context.Context, job model.Job) (int64, error) {
	_, id, err := tx.exec(ctx, `INSERT INTO schedules (kind, subject, settings, rule, enabled, who, created, next) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		job.Kind, job.Subject, []byte(job.Settings), job.Rule, job.Enabled, job.Who, job.Created, job.Next)
	return id, err
}

// Jobs lists the work that is done again and again: about one subject, unless it
// is "".
func (q Queries) Jobs(ctx context.Context, subject string) ([]model.Job, error) {
	rows, err := q.run.QueryContext(ctx, scheduleColumns+` WHERE ? = '' OR s.subject = ? ORDER BY s.subject, s.kind, s.id`, subject, subject)
	return collect(rows, err, scanSchedule)
}

// Job finds work that is done again and again.
func (q Queries) Job(ctx context.Context, id int64) (model.Job, error) {
	return one(q.run.QueryRowContext(ctx, scheduleColumns+` WHERE s.id = ?`, id), scanSchedule, fault.New(fault.NotFound, "list the jobs with: bspan job list", "there is no job %d", id))
}

// UpdateJob changes when a job is done. job.Version is what the caller last read.
func (tx *Tx) UpdateJob(ctx context.Context, job model.Job) error {
	return tx.expectVersion(ctx, "job", `UPDATE schedules SET rule = ?, enabled = ?, next = ?, version = version + 1 WHERE id = ? AND version = ?`, job.Rule, job.Enabled, job.Next, job.ID, job.Version)
}

// RemoveJob removes a job; its runs stay.
func (tx *Tx) RemoveJob(ctx context.Context, id, version int64) error {
	return tx.expectVersion(ctx, "job", `DELETE FROM schedules WHERE id = ? AND version = ?`, id, version)
}

// RemoveJobsOf removes the jobs about a subject.
func (tx *Tx) RemoveJobsOf(ctx context.Context, kinds []string, subject string) error {
	for _, kind := range kinds {
		if _, _, err := tx.exec(ctx, `DELETE FROM schedules WHERE kind = ? AND subject = ?`, kind, subject); err != nil {
			return err
		}
	}
	return nil
}

// JobsDue lists the jobs that are due.
func (q Queries) JobsDue(ctx context.Context, at time.Time) ([]model.Job, error) {
	rows, err := q.run.QueryContext(ctx, scheduleColumns+` WHERE s.enabled AND s.next <= ? ORDER BY s.next LIMIT 100`, at)
	return collect(rows, err, scanSchedule)
}

// TakeJob starts a run of a job that is due, and notes when it is due again. It
// returns 0 when another instance was quicker, and what AddRun does.
func (tx *Tx) TakeJob(ctx context.Context, job model.Job, exclusive bool, at, next time.Time) (int64, error) {
	rows, _, err := tx.exec(ctx, `UPDATE schedules SET next = ? WHERE id = ? AND next = ? AND enabled`, next, job.ID, job.Next)
	if err != nil || rows == 0 {
		return 0, err
	}
	id, err := tx.AddRun(ctx, model.Run{Kind: job.Kind, Subject: job.Subject, Who: job.Who, Created: at}, exclusive, json.RawMessage(job.Settings))
	if err != nil {
		return 0, err
	}
	return id, tx.NoteJobRun(ctx, job.ID, id)
}

// NoteJobRun notes the last run of a job.
func (tx *Tx) NoteJobRun(ctx context.Context, job, run int64) error {
	_, _, err := tx.exec(ctx, `UPDATE schedules SET last_run = ? WHERE id = ?`, run, job)
	return err
}

// PostponeJob lets a job that is due wait until its last run has ended.
func (tx *Tx) PostponeJob(ctx context.Context, job model.Job, next time.Time) error {
	_, _, err := tx.exec(ctx, `UPDATE schedules SET next = ? WHERE id = ? AND next = ?`, next, job.ID, job.Next)
	return err
}

// Finding is a difference that a verification found at a replica.
type Finding struct {
	Seq     int64
	Replica string
	verify.Difference
}

// AddFindings adds what a verification found.
func (tx *Tx) AddFindings(ctx context.Context, run int64, found []Finding) error {
	var rows bulk
	for _, f := range found {
		rows.add(run, f.Seq, f.Replica, []byte(f.Path), f.Kind, short(f.First, 60_000), short(f.Second, 60_000), f.Explained, f.Overdue, short(f.Why, 255))
	}
	return rows.replacing(ctx, tx, `verify_findings (run_id, seq, replica, path, kind, first_text, second_text, explained, overdue, why)`)
}

// ForgetFindings removes what a verification found from a number on: it will be
// found again.
func (tx *Tx) ForgetFindings(ctx context.Context, run, from int64) error {
	_, _, err := tx.exec(ctx, `DELETE FROM verify_findings WHERE run_id = ? AND seq >= ?`, run, from)
	return err
}

// ExplainFinding says of a finding why nothing is wrong with it.
func (q Queries) ExplainFinding(ctx context.Context, run, seq int64, why string) error {
	_, _, err := q.exec(ctx, `UPDATE verify_findings SET explained = TRUE, overdue = FALSE, why = ? WHERE run_id = ? AND seq = ?`, short(why, 255), run, seq)
	return err
}

// FindingsAsked says which findings are asked for; zero fields ask for all.
type FindingsAsked struct {
	After         int64
	Replica, Kind string
	Part          string // of the path
	Unexplained   bool   // those alone
	Limit         int
}

// Findings lists what a verification found, in the order in which it was.
func (q Queries) Findings(ctx context.Context, run int64, a FindingsAsked) ([]Finding, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT seq, replica, path, kind, first_text, second_text, explained, overdue, why FROM verify_findings
		WHERE run_id = ? AND seq > ? AND (? = '' OR replica = ?) AND (? = '' OR kind = ?) AND (? = '' OR LOCATE(LOWER(?), LOWER(CONVERT(path USING utf8mb4))) > 0) AND (NOT ? OR NOT explained) ORDER BY seq LIMIT ?`,
		run, a.After, a.Replica, a.Replica, a.Kind, a.Kind, a.Part, strings.ToValidUTF8(a.Part, "?"), a.Unexplained, a.Limit)
	return collect(rows, err, func(s scanner) (f Finding, err error) {
		return f, s.Scan(&f.Seq, &f.Replica, &f.Path, &f.Kind, &f.First, &f.Second, &f.Explained, &f.Overdue, &f.Why)
	})
}

// Sum is the SHA-256 of a file.
type Sum struct {
	Path string
	Sum  [32]byte
}

// AddSums keeps the hashes of what a verification read.
func (tx *Tx) AddSums(ctx context.Context, run int64, sums []Sum) error {
	var rows bulk
	for _, s := range sums {
		rows.add(run, folderOf(s.Path), []byte(s.Path), s.Sum[:])
	}
	return rows.replacing(ctx, tx, `verify_sums (run_id, path_hash, path, sum)`)
}

// EachSum calls each with the hashes of what a verification read, until it
// returns an error.
func (q Queries) EachSum(ctx context.Context, run int64, each func(Sum) error) error {
	rows, err := q.run.QueryContext(ctx, `SELECT path, sum FROM verify_sums WHERE run_id = ? ORDER BY path`, run)
	if err != nil {
		return unavailable(err)
	}
	defer rows.Close()
	for rows.Next() {
		var s Sum
		var sum []byte
		if err := rows.Scan(&s.Path, &sum); err != nil {
			return err
		}
		copy(s.Sum[:], sum)
		if err := each(s); err != nil {
			return err
		}
	}
	return unavailable(rows.Err())
}
