package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"bridgespan/core/fault"
	"bridgespan/model"
)

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
