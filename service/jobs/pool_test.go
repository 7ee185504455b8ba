package jobs

import (
	"context"
	"fmt"
	"slices"
	"testing"

	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/work"
	"bridgespan/standin/standintest"
)

// A run that waits for something gives its slot to others, and takes one again before it
// goes on. Runs of other pools do not wait at all.
func TestParkedRunsLetOthersWork(t *testing.T) {
	db, _ := standintest.Records(t)
	s := New(db, &work.Leases{DB: db, Holder: "one"}, func() {})
	waiting, opens := make(chan *Job, 10), make(chan struct{})
	s.Register("patient", batch, func(ctx context.Context, j *Job) error {
		j.Park("its hour")
		waiting <- j
		select {
		case <-opens:
		case <-ctx.Done():
			return ctx.Err()
		}
		return j.Unpark(ctx)
	})
	holds, release := make(chan struct{}, 10), make(chan struct{})
	s.Register("holds", batch, func(context.Context, *Job) error {
		holds <- struct{}{}
		<-release
		return nil
	})
	s.Register("prompt", Policy{Role: model.Operator, Pool: Interactive}, func(context.Context, *Job) error { return nil })
	runs(t, s)
	start := func(kind string) int64 {
		id, err := s.Start(t.Context(), kind, "x", nil)
		if err != nil {
			t.Fatal(err)
		}
		return id
	}
	var patient, others []int64
	for range 2 * slotsOf[Batch] { // more than there are slots
		patient = append(patient, start("patient"))
	}
	for range patient {
		<-waiting
	}
	if r, err := s.Get(t.Context(), patient[0]); err != nil || r.State != model.RunRunning {
		t.Errorf("parked: %+v, %v", r, err)
	}
	for range slotsOf[Batch] { // their slots are free
		others = append(others, start("holds"))
	}
	for range others {
		<-holds
	}
	if r := await(t, s, start("prompt")); r.State != model.RunDone {
		t.Errorf("in another pool: %+v", r)
	}
	close(opens) // no slot is free: they wait for their turn
	if err := s.Stop(t.Context(), patient[0]); err != nil {
		t.Fatal(err)
	}
	if r := await(t, s, patient[0]); r.State != model.RunStopped {
		t.Errorf("stopped while it waited for its turn: %+v", r)
	}
	if r, err := s.Get(t.Context(), patient[1]); err != nil || r.State.Ended() {
		t.Errorf("it did not wait for its turn: %+v, %v", r, err)
	}
	close(release)
	for _, id := range append(patient[1:], others...) {
		if r := await(t, s, id); r.State != model.RunDone {
			t.Errorf("in the end: %+v", r)
		}
	}
}

// Of exclusive work about one subject there is one open run, whoever starts them at once.
func TestExclusive(t *testing.T) {
	db, _ := standintest.Records(t)
	a, b := New(db, &work.Leases{DB: db, Holder: "one"}, func() {}), New(db, &work.Leases{DB: db, Holder: "two"}, func() {}) // nobody works on them
	for _, s := range []*Service{a, b} {
		s.Register("sole", Policy{Role: model.Operator, Pool: Batch, Exclusive: true}, func(context.Context, *Job) error { return nil })
	}
	type outcome struct {
		id  int64
		err error
	}
	outcomes := make(chan outcome)
	for i := range 20 {
		go func() {
			id, err := []*Service{a, b}[i%2].Start(t.Context(), "sole", "oak", nil)
			outcomes <- outcome{id, err}
		}()
	}
	var started int64
	for range 20 {
		switch o := <-outcomes; {
		case o.err == nil && started == 0:
			started = o.id
		case fault.KindOf(o.err) != fault.Taken:
			t.Errorf("run %d beside run %d: %v", o.id, started, o.err)
		}
	}
	other, err := a.Start(t.Context(), "sole", "ash", nil)
	if err != nil {
		t.Errorf("about something else: %v", err)
	}
	if err := a.Stop(t.Context(), started); err != nil {
		t.Fatal(err)
	}
	next, err := b.Start(t.Context(), "sole", "oak", nil)
	if err != nil {
		t.Errorf("after it was stopped: %v", err)
	}
	if err := a.Resume(t.Context(), started); fault.KindOf(err) != fault.Taken {
		t.Errorf("it goes on beside the next one: %v", err)
	}
	runs(t, a)
	for _, id := range []int64{other, next} {
		await(t, a, id)
	}
	if err := a.Resume(t.Context(), started); err != nil {
		t.Errorf("after the next one: %v", err)
	}
	await(t, a, started)
}

// How far a run is concerns those who look at it, and is no change of anything.
func TestProgressIsNoChange(t *testing.T) {
	db, _ := standintest.Records(t)
	s := New(db, &work.Leases{DB: db, Holder: "one"}, func() {})
	told, release := make(chan struct{}, 100), make(chan struct{})
	s.changed = func() { told <- struct{}{} }
	s.Register("count", batch, func(ctx context.Context, j *Job) error {
		j.Progress(1, 1, 0.1)
		<-release
		return nil
	})
	runs(t, s)
	id, err := s.Start(t.Context(), "count", "x", nil)
	if err != nil {
		t.Fatal(err)
	}
	<-told // it was started
	<-told // it is further
	close(release)
	await(t, s, id)
	events, err := db.Events(t.Context(), 0)
	if err != nil {
		t.Fatal(err)
	}
	var topics []string
	for _, e := range events {
		topics = append(topics, fmt.Sprint(e.Topic, " ", e.Recorded))
	}
	if want := []string{"run true", "progress false", "run false"}; !slices.Equal(topics, want) {
		t.Errorf("told was %v, want %v", topics, want)
	}
}

// A run whose lease was lost is not begun again beside its worker, which has not ended yet.
func TestLostRunIsNotBegunTwice(t *testing.T) {
	db, _ := standintest.Records(t)
	s := New(db, &work.Leases{DB: db, Holder: "one"}, func() {})
	begun, release := make(chan struct{}, 10), make(chan struct{})
	s.Register("deaf", batch, func(context.Context, *Job) error {
		begun <- struct{}{}
		<-release
		return nil
	})
	s.Register("quick", batch, func(context.Context, *Job) error { return nil })
	runs(t, s)
	id, err := s.Start(t.Context(), "deaf", "x", nil)
	if err != nil {
		t.Fatal(err)
	}
	<-begun
	// As after a pause of the database: the lease has run out, and nobody has it.
	if err := db.Release(t.Context(), records.Lease{Name: records.LeaseOfRun(id), Holder: "one", Fencing: 1}); err != nil {
		t.Fatal(err)
	}
	quick, err := s.Start(t.Context(), "quick", "x", nil)
	if err != nil {
		t.Fatal(err)
	}
	await(t, s, quick) // runs were taken up since
	if len(begun) > 0 {
		t.Error("the run is worked on twice")
	}
	close(release)
	await(t, s, id)
}

// Who may stop a run, let it go on and forget it depends on its kind.
func TestRoles(t *testing.T) {
	db, _ := standintest.Records(t)
	s := New(db, &work.Leases{DB: db, Holder: "one"}, func() {})
	s.Register("plain", batch, nil)
	s.Register("grave", Policy{Role: model.Administrator, Pool: Interactive}, nil)
	as := func(role model.Role) context.Context {
		return access.WithActor(t.Context(), model.User{Name: string(role), Role: role})
	}
	for kind, least := range map[string]model.Role{"plain": model.Operator, "grave": model.Administrator, "unknown": model.Administrator} {
		id, err := s.Start(t.Context(), kind, "x", nil)
		if err != nil {
			t.Fatal(err)
		}
		may := false
		for _, role := range []model.Role{model.Viewer, model.Operator, model.Administrator} {
			may = may || role == least
			for what, do := range map[string]func(context.Context, int64) error{"stop": s.Stop, "resume": s.Resume, "remove": s.Remove} {
				if err := do(as(role), id); (fault.KindOf(err) == fault.Forbidden) == may {
					t.Errorf("%s of %s as %s: %v", what, kind, role, err)
				}
			}
		}
	}
}
