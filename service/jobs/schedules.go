package jobs

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"time"

	"bridgespan/core/calendar"
	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
)

// Schedule saves work that is done again and again: when rule says.
func (s *Service) Schedule(ctx context.Context, kind, rule string, work Work) (model.Job, error) {
	when, err := calendar.ParseSchedule("rule", rule)
	if err != nil {
		return model.Job{}, err
	}
	settings, err := json.Marshal(work.Settings)
	if err != nil {
		return model.Job{}, err
	}
	job := model.Job{Kind: kind, Subject: work.Subject, Settings: string(settings), Rule: when.String(), Enabled: true, Who: "nobody", Created: now(), Next: next(when)}
	if u, ok := access.Actor(ctx); ok {
		job.Who = u.Name
	}
	err = s.db.Change(ctx, func(tx *records.Tx) error {
		if job.ID, err = tx.AddJob(ctx, job); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "job.add", subjectOf(job), nil, asJob(job)), "job")
	})
	if err != nil {
		return job, err
	}
	s.changed()
	return s.db.Job(ctx, job.ID)
}

// next is when a schedule is due, by the clock of the machine.
func next(when calendar.Schedule) time.Time { return when.Next(time.Now()).UTC().Truncate(time.Second) }

func subjectOf(job model.Job) string { return fmt.Sprintf("%s of %s", job.Kind, job.Subject) }

func asJob(job model.Job) map[string]any {
	return map[string]any{"rule": job.Rule, "enabled": job.Enabled, "settings": json.RawMessage(job.Settings)}
}

// Saved lists saved work, about one subject unless it is "".
func (s *Service) Saved(ctx context.Context, subject string) ([]model.Job, error) {
	return s.db.Jobs(ctx, subject)
}

// SavedJob finds saved work.
func (s *Service) SavedJob(ctx context.Context, id int64) (model.Job, error) {
	return s.db.Job(ctx, id)
}

// EditJob changes when saved work is done. version is what the caller last read.
func (s *Service) EditJob(ctx context.Context, id, version int64, e model.EditJob) (model.Job, error) {
	err := s.db.Change(ctx, func(tx *records.Tx) error {
		job, err := tx.Job(ctx, id)
		if err != nil {
			return err
		}
		before := job
		job.Version = version
		if e.Enabled != nil {
			job.Enabled = *e.Enabled
		}
		if e.Rule != nil {
			job.Rule = *e.Rule
		}
		when, err := calendar.ParseSchedule("rule", job.Rule)
		if err != nil {
			return err
		}
		job.Rule, job.Next = when.String(), next(when)
		if err := tx.UpdateJob(ctx, job); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "job.edit", subjectOf(job), asJob(before), asJob(job)), "job")
	})
	if err != nil {
		return model.Job{}, err
	}
	s.changed()
	return s.db.Job(ctx, id)
}

// RemoveJob removes saved work; the runs that it had stay.
func (s *Service) RemoveJob(ctx context.Context, id, version int64) error {
	defer s.changed()
	return s.db.Change(ctx, func(tx *records.Tx) error {
		job, err := tx.Job(ctx, id)
		if err != nil {
			return err
		}
		if err := tx.RemoveJob(ctx, id, version); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "job.remove", subjectOf(job), asJob(job), nil), "job")
	})
}

// startDue starts what is due. Of a job whose last run has not ended, nothing is
// started: it would come in its own way.
func (s *Service) startDue(ctx context.Context) error {
	due, err := s.db.JobsDue(ctx, now())
	if err != nil {
		return err
	}
	for _, job := range due {
		when, err := calendar.ParseSchedule("rule", job.Rule)
		if err != nil || s.kinds[job.Kind].worker == nil {
			slog.Warn("a job cannot be done", "job", job.ID, "kind", job.Kind, "error", err)
			continue
		}
		err = s.db.Change(ctx, func(tx *records.Tx) error {
			if last := model.RunState(job.LastState); last == model.RunWaiting || last == model.RunRunning {
				return tx.PostponeJob(ctx, job, next(calendar.Schedule{Every: time.Minute}))
			}
			_, err := tx.TakeJob(ctx, job, s.kinds[job.Kind].Exclusive, now(), next(when))
			return err
		})
		if fault.KindOf(err) == fault.Taken { // somebody started the same by hand
			err = s.db.Change(ctx, func(tx *records.Tx) error {
				return tx.PostponeJob(ctx, job, next(calendar.Schedule{Every: time.Minute}))
			})
		}
		if err != nil {
			return err
		}
	}
	if len(due) > 0 {
		s.changed()
	}
	return nil
}

// RunJob starts a run of saved work now.
func (s *Service) RunJob(ctx context.Context, id int64) (model.Run, error) {
	job, err := s.db.Job(ctx, id)
	if err != nil {
		return model.Run{}, err
	}
	if s.kinds[job.Kind].worker == nil {
		return model.Run{}, fault.New(fault.Invalid, "remove it", "nobody knows how to do the work %q", job.Kind)
	}
	run, err := s.Start(ctx, job.Kind, job.Subject, json.RawMessage(job.Settings))
	if err == nil {
		err = s.db.Change(ctx, func(tx *records.Tx) error { return tx.NoteJobRun(ctx, id, run) })
	}
	if err != nil {
		return model.Run{}, err
	}
	return s.Get(ctx, run)
}
