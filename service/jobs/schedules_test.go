package jobs

import (
	"context"
	"testing"
	"time"

	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/work"
	"bridgespan/standin/standintest"
)

// makeDue lets a job be due since a minute.
func makeDue(t *testing.T, db *records.DB, job model.Job) model.Job {
	t.Helper()
	if err := db.Change(t.Context(), func(tx *records.Tx) error {
		return tx.PostponeJob(t.Context(), job, time.Now().UTC().Add(-time.Minute).Truncate(time.Second))
	}); err != nil {
		t.Fatal(err)
	}
	job, err := db.Job(t.Context(), job.ID)
	if err != nil {
		t.Fatal(err)
	}
	return job
}

// TestJobs has saved work done when it is due: once, however many instances
// there are, and not while its last run is still under way.
func TestJobs(t *testing.T) {
	db, _ := standintest.Records(t)
	ctx := t.Context()
	began, release := make(chan int64, 10), make(chan struct{})
	worker := func(ctx context.Context, j *Job) error {
		var asked map[string]string
		if err := j.Settings(&asked); err != nil || asked["what"] != "leaves" {
			t.Errorf("it is to do %v, %v", asked, err)
		}
		began <- j.ID
		select {
		case <-release:
		case <-ctx.Done():
		}
		return ctx.Err()
	}
	one, two := New(db, &work.Leases{DB: db, Holder: "one"}, func() {}), New(db, &work.Leases{DB: db, Holder: "two"}, func() {})
	one.Register("count", batch, worker)
	two.Register("count", batch, worker)
	if _, err := one.Schedule(ctx, "count", "whenever", Work{"beds", nil}); fault.KindOf(err) != fault.Invalid {
		t.Errorf("a rule of nothing: %v", err)
	}
	job, err := one.Schedule(ctx, "count", "every 6h", Work{"beds", map[string]string{"what": "leaves"}})
	if err != nil || !job.Enabled || job.LastRun != 0 || job.Next.Before(time.Now()) {
		t.Fatalf("%+v, %v", job, err)
	}
	due := makeDue(t, db, job)
	// Both instances see that it is due; one of them takes it.
	taken := 0
	for range 2 {
		if err := db.Change(ctx, func(tx *records.Tx) error {
			id, err := tx.TakeJob(ctx, due, false, now(), now().Add(6*time.Hour))
			if id != 0 {
				taken++
			}
			return err
		}); err != nil {
			t.Fatal(err)
		}
	}
	if taken != 1 {
		t.Fatalf("it was taken %d times", taken)
	}
	runs(t, one)
	runs(t, two)
	first := <-began
	if job, err = one.SavedJob(ctx, job.ID); err != nil || job.LastRun != first || job.Next.Before(time.Now().Add(5*time.Hour)) {
		t.Errorf("while it is done: %+v, %v; run %d", job, err, first)
	}
	// It is due again, but the last run is still under way.
	makeDue(t, db, job)
	if err := one.startDue(ctx); err != nil {
		t.Fatal(err)
	}
	if job, err = one.SavedJob(ctx, job.ID); err != nil || job.LastRun != first || !job.Next.After(time.Now()) {
		t.Errorf("with its run under way: %+v, %v", job, err)
	}
	release <- struct{}{}
	if r := await(t, one, first); r.State != model.RunDone || r.Subject != "beds" || r.Kind != "count" {
		t.Errorf("it came out as %+v", r)
	}
	testEditedJobs(t, one, db, job)
	close(release)
}

func testEditedJobs(t *testing.T, s *Service, db *records.DB, job model.Job) {
	t.Helper()
	ctx := t.Context()
	off, rule := false, "daily 04:00"
	edited, err := s.EditJob(ctx, job.ID, job.Version, model.EditJob{Enabled: &off, Rule: &rule})
	if err != nil || edited.Enabled || edited.Rule != "daily 04:00" {
		t.Fatalf("%+v, %v", edited, err)
	}
	if _, err := s.EditJob(ctx, job.ID, job.Version, model.EditJob{Enabled: &off}); fault.KindOf(err) != fault.Stale {
		t.Errorf("changed by who had read it before: %v", err)
	}
	makeDue(t, db, edited)
	if due, err := db.JobsDue(ctx, now()); err != nil || len(due) != 0 {
		t.Errorf("a disabled job is due: %+v, %v", due, err)
	}
	if list, err := s.Saved(ctx, "beds"); err != nil || len(list) != 1 {
		t.Errorf("about beds: %+v, %v", list, err)
	}
	if list, err := s.Saved(ctx, "elsewhere"); err != nil || len(list) != 0 {
		t.Errorf("about something else: %+v, %v", list, err)
	}
	if err := db.Change(ctx, func(tx *records.Tx) error { return tx.RemoveJobsOf(ctx, []string{"other"}, "beds") }); err != nil {
		t.Fatal(err)
	}
	if _, err := s.SavedJob(ctx, job.ID); err != nil {
		t.Errorf("a job of another kind went too: %v", err)
	}
	if err := s.RemoveJob(ctx, job.ID, edited.Version); err != nil {
		t.Fatal(err)
	}
	if _, err := s.SavedJob(ctx, job.ID); fault.KindOf(err) != fault.NotFound {
		t.Errorf("a removed job: %v", err)
	}
}
