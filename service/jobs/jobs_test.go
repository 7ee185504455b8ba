package jobs

import (
	"context"
	"errors"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/service/access"
	"bridgespan/service/work"
	"bridgespan/standin/standintest"
)

// runs starts services on one database, each as an instance of its own.
func runs(t *testing.T, s *Service) (stop func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { s.Run(ctx); close(done) }()
	stop = func() { cancel(); <-done }
	t.Cleanup(stop)
	return stop
}

var batch = Policy{Role: model.Operator, Pool: Batch}

func await(t *testing.T, s *Service, id int64) model.Run {
	t.Helper()
	r, err := s.Await(t.Context(), id, 30*time.Second)
	if err != nil || !r.State.Ended() {
		t.Fatalf("run %+v, %v", r, err)
	}
	return r
}

func TestRuns(t *testing.T) {
	db, _ := standintest.Records(t)
	s := New(db, &work.Leases{DB: db, Holder: "one"}, func() {})
	started, release := make(chan int64, 10), make(chan struct{})
	s.Register("count", batch, func(ctx context.Context, j *Job) error {
		var kept struct{ Part int }
		if _, err := j.Resumes(&kept); err != nil {
			return err
		}
		kept.Part++
		j.Progress(int64(kept.Part), 10, 0.5)
		if err := j.Checkpoint(ctx, kept, nil); err != nil {
			return err
		}
		started <- j.ID
		select {
		case <-release:
			return j.Finish(map[string]int{"parts": kept.Part})
		case <-ctx.Done():
			return ctx.Err()
		}
	})
	s.Register("fail", batch, func(context.Context, *Job) error {
		return fault.New(fault.Unavailable, "mend it", "the bridge is up")
	})
	s.Register("panic", batch, func(context.Context, *Job) error { panic("a beam broke") })
	stop := runs(t, s)
	ctx := t.Context()

	// Stopped by hand, it keeps what it did and goes on from there.
	id, err := s.Start(ctx, "count", "oak/store", map[string]string{"what": "files"})
	if err != nil {
		t.Fatal(err)
	}
	<-started
	var asked map[string]string
	if _, err := s.Read(ctx, id, "count", &asked, nil); err != nil || asked["what"] != "files" {
		t.Errorf("it was asked for %v, %v", asked, err)
	}
	if _, err := s.Read(ctx, id, "fail", &asked, nil); fault.KindOf(err) != fault.NotFound {
		t.Errorf("read as a run of another kind: %v", err)
	}
	if err := s.Remove(ctx, id); fault.KindOf(err) != fault.Stale {
		t.Errorf("a run under way is removed: %v", err)
	}
	if err := s.Stop(ctx, id); err != nil {
		t.Fatal(err)
	}
	if r := await(t, s, id); r.State != model.RunStopped || r.Done != 1 || r.Who != "nobody" {
		t.Errorf("stopped: %+v", r)
	}
	if err := s.Stop(ctx, id); fault.KindOf(err) != fault.Stale {
		t.Errorf("stopped twice: %v", err)
	}
	if err := s.Resume(ctx, id); err != nil {
		t.Fatal(err)
	}
	<-started

	// The service ends in the middle: another instance goes on, from what was kept.
	stop()
	if r, err := s.Get(ctx, id); err != nil || r.State != model.RunRunning {
		t.Errorf("after the service ended: %+v, %v", r, err)
	}
	other := New(db, &work.Leases{DB: db, Holder: "two"}, func() {})
	other.kinds, other.pools[Batch].kinds = s.kinds, s.pools[Batch].kinds
	runs(t, other)
	<-started
	close(release)
	if r := await(t, other, id); r.State != model.RunDone || r.Fraction != 1 || r.Rate <= 0 {
		t.Errorf("done: %+v", r)
	}
	var result map[string]int
	if ok, err := other.Result(ctx, id, &result); err != nil || !ok || result["parts"] != 3 {
		t.Errorf("result %v, %v, %v", result, ok, err)
	}
	if err := other.Resume(ctx, id); fault.KindOf(err) != fault.Stale {
		t.Errorf("a run that is done goes on: %v", err)
	}

	for kind, says := range map[string]string{"fail": "the bridge is up: mend it", "panic": "a beam broke"} {
		id, err := other.Start(ctx, kind, "x", nil)
		if err != nil {
			t.Fatal(err)
		}
		if r := await(t, other, id); r.State != model.RunFailed || !strings.Contains(r.Trouble, says) {
			t.Errorf("%s: %+v", kind, r)
		}
	}
	list, err := other.List(ctx, "count", "oak/store", 0, 10)
	if err != nil || len(list) != 1 || list[0].ID != id {
		t.Errorf("list %+v, %v", list, err)
	}
	if err := other.Remove(ctx, id); err != nil {
		t.Error(err)
	}
	if _, err := other.Get(ctx, id); fault.KindOf(err) != fault.NotFound {
		t.Errorf("a removed run: %v", err)
	}
}

// Two instances never work on the same run at once.
func TestOneWorkerAtATime(t *testing.T) {
	db, _ := standintest.Records(t)
	var busy, worked atomic.Int64
	worker := func(ctx context.Context, j *Job) error {
		defer busy.Add(-1)
		if busy.Add(1) > 1 {
			return errors.New("two at once")
		}
		worked.Add(1)
		return nil
	}
	a, b := New(db, &work.Leases{DB: db, Holder: "one"}, func() {}), New(db, &work.Leases{DB: db, Holder: "two"}, func() {})
	for _, s := range []*Service{a, b} {
		s.Register("work", batch, worker)
		runs(t, s)
	}
	var ids []int64
	for range 5 {
		id, err := a.Start(t.Context(), "work", "x", nil)
		if err != nil {
			t.Fatal(err)
		}
		b.kick()
		r := await(t, a, id)
		if r.State != model.RunDone {
			t.Errorf("%+v", r)
		}
		ids = append(ids, id)
	}
	if worked.Load() != int64(len(ids)) {
		t.Errorf("%d runs were worked on %d times", len(ids), worked.Load())
	}
}

// A run ends when somebody wants it to, whatever its work does. What is cut off keeps
// nothing, does not stand in the way of other runs, and is not begun twice.
func TestStopsWhateverWorks(t *testing.T) {
	db, _ := standintest.Records(t)
	s := New(db, &work.Leases{DB: db, Holder: "one"}, func() {})
	started, release := make(chan *Job, 10), make(chan struct{})
	s.Register("deaf", batch, func(_ context.Context, j *Job) error {
		started <- j
		<-release
		return nil
	})
	s.Register("quick", batch, func(context.Context, *Job) error { return nil })
	begun, answered := make(chan struct{}), make(chan struct{})
	s.Register("steps", Policy{Role: model.Operator, Pool: Interactive, Stop: time.Hour}, func(ctx context.Context, j *Job) error {
		close(begun)
		<-ctx.Done()
		<-answered // what it had asked of a server
		return errors.Join(j.Checkpoint(ctx, "what came of it", nil), ctx.Err())
	})
	runs(t, s)
	ctx := t.Context()
	patient, err := s.Start(ctx, "steps", "x", nil)
	if err != nil {
		t.Fatal(err)
	}
	<-begun
	if err := s.Stop(ctx, patient); err != nil {
		t.Fatal(err)
	}
	var deaf []int64
	for range slotsOf[Batch] {
		id, err := s.Start(ctx, "deaf", "x", nil)
		if err != nil {
			t.Fatal(err)
		}
		deaf = append(deaf, id)
	}
	var jobs []*Job
	for range slotsOf[Batch] {
		jobs = append(jobs, <-started)
	}
	asked := time.Now()
	for _, id := range deaf {
		if err := s.Stop(ctx, id); err != nil {
			t.Fatal(err)
		}
	}
	for _, id := range deaf {
		if r := await(t, s, id); r.State != model.RunStopped || !strings.Contains(r.Trouble, "cut off") {
			t.Errorf("stopped: %+v", r)
		}
	}
	if took := time.Since(asked); took > 5*time.Second {
		t.Errorf("it took %v", took)
	}
	if r, err := s.Get(ctx, patient); err != nil || r.State != model.RunRunning {
		t.Errorf("what may take longer is %+v, %v", r, err)
	}
	close(answered)
	if r := await(t, s, patient); r.State != model.RunStopped || strings.Contains(r.Trouble, "cut off") {
		t.Errorf("what may take longer ends as %+v", r)
	}
	if w, err := db.Work(ctx, patient); err != nil || string(w.Checkpoint) != `"what came of it"` {
		t.Errorf("it has kept %s, %v", w.Checkpoint, err)
	}
	if err := jobs[0].Checkpoint(ctx, "late", nil); !errors.Is(err, errCutOff) {
		t.Errorf("what was cut off keeps: %v", err)
	}
	if err := s.Resume(ctx, deaf[0]); err != nil {
		t.Fatal(err)
	}
	quick, err := s.Start(ctx, "quick", "x", nil)
	if err != nil {
		t.Fatal(err)
	}
	if r := await(t, s, quick); r.State != model.RunDone {
		t.Errorf("beside what was cut off: %+v", r)
	}
	if len(started) > 0 {
		t.Error("the run is worked on again while its work goes on")
	}
	close(release)
	if r := await(t, s, deaf[0]); r.State != model.RunDone {
		t.Errorf("resumed: %+v", r)
	}
}

// Nobody fills the service with runs.
func TestOpenRunsAreBounded(t *testing.T) {
	db, _ := standintest.Records(t)
	s := New(db, &work.Leases{DB: db, Holder: "one"}, func() {}) // nothing works on them
	ctx := access.WithActor(t.Context(), model.User{Name: "robin", Role: model.Operator})
	if _, err := s.StartAll(ctx, "quick", make([]Work, mostOpen)); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Start(ctx, "quick", "", nil); fault.KindOf(err) != fault.Throttled {
		t.Errorf("one more: %v", err)
	}
	other := access.WithActor(t.Context(), model.User{Name: "wren", Role: model.Operator})
	if _, err := s.Start(other, "quick", "", nil); err != nil {
		t.Errorf("somebody else: %v", err)
	}
	if _, err := s.Start(t.Context(), "quick", "", nil); err != nil {
		t.Errorf("a saved job: %v", err)
	}
}
