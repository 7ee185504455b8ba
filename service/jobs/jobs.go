// Package jobs works on what takes a while: runs that are kept in the records,
// show how far they are, stop when asked and go on from where they stopped,
// here or in another instance of the service, also after a crash.
//
// A kind of work is a [Worker], told to the service with Register. It is given
// a [Job], through which it reads what it is to do, says how far it is, and
// keeps what it needs to go on.
package jobs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"bridgespan/core/fault"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
)

// Worker does one kind of work. When it returns nil the run is done; when ctx
// ended because somebody wants it to stop, it returns ErrStopped or ctx's
// error, after keeping what it needs to go on.
type Worker func(ctx context.Context, job *Job) error

// ErrStopped is the cause of the end of a job's context when somebody wants it to stop.
var ErrStopped = errors.New("stopped")

// errCutOff is how a run ends whose worker did not stop within stopsWithin. Its job returns
// it from then on.
var errCutOff = fmt.Errorf("stopped by hand; the work did not stop within %v and was cut off", stopsWithin)

// errShutdown is the cause when the service ends: the run goes on later.
var errShutdown = errors.New("the service ends")

// Service is the use case.
type Service struct {
	db      *records.DB
	holder  string
	changed func()
	workers map[string]Worker
	wake    chan struct{}

	mu    sync.Mutex
	busy  map[int64]context.CancelCauseFunc
	stuck int // runs of busy that were cut off, and whose work still does not end
	group guard.WaitGroup
}

// New makes the service. changed is called after every change.
func New(db *records.DB, holder string, changed func()) *Service {
	return &Service{db: db, holder: holder, changed: changed, workers: map[string]Worker{}, wake: make(chan struct{}, 1), busy: map[int64]context.CancelCauseFunc{}}
}

// Register tells who does a kind of work. It must be called before Run.
func (s *Service) Register(kind string, w Worker) { s.workers[kind] = w }

// atOnce is how many runs one instance works on at a time.
const atOnce = 3

// Times of the work. A lease outlives several beats, so that a pause of the
// database does not hand a run to another instance.
const (
	lookEvery = 5 * time.Second
	beat      = time.Second
	leaseFor  = 20 * time.Second
)

// stopsWithin is how long work may take to stop. After it the run counts as stopped, and
// can keep nothing any more.
const stopsWithin = 3 * time.Second

// mostOpen is how many runs of one person may wait or be worked on at a time.
const mostOpen = 200

// Run works on runs until ctx ends.
func (s *Service) Run(ctx context.Context) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		if err := s.takeUp(ctx); err != nil && ctx.Err() == nil {
			slog.Warn("runs cannot be taken up", "error", err)
		}
		select {
		case <-ctx.Done():
			s.mu.Lock()
			for _, stop := range s.busy {
				stop(errShutdown)
			}
			s.mu.Unlock()
			s.group.Wait()
			return
		case <-s.wake:
		case <-tick.C:
		}
	}
}

func (s *Service) kick() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// takeUp takes up the runs that nobody works on.
func (s *Service) takeUp(ctx context.Context) error {
	if err := s.startDue(ctx); err != nil {
		return err
	}
	runs, err := s.db.RunsToWorkOn(ctx)
	if err != nil {
		return err
	}
	for _, r := range runs {
		s.mu.Lock()
		_, mine := s.busy[r.ID]
		full := len(s.busy)-s.stuck >= atOnce
		s.mu.Unlock()
		if full {
			return nil
		}
		if mine || s.workers[r.Kind] == nil {
			continue
		}
		lease, ok, err := s.db.Acquire(ctx, fmt.Sprintf("run %d", r.ID), s.holder, leaseFor)
		if err != nil {
			return err
		}
		if ok {
			s.begin(ctx, r, lease)
		}
	}
	return nil
}

func (s *Service) begin(ctx context.Context, r model.Run, lease records.Lease) {
	work, stop := context.WithCancelCause(context.WithoutCancel(ctx))
	s.mu.Lock()
	s.busy[r.ID] = stop
	s.mu.Unlock()
	s.group.Go(func() {
		ended := make(chan struct{})
		close(ended) // no worker has begun yet: what work returns takes its place
		defer func() {
			stop(nil)
			select {
			case <-ended:
				s.leave(work, r.ID, lease)
			default:
				guard.Go(func() { s.outlast(work, r.ID, lease, ended) })
			}
			s.changed()
			s.kick()
		}()
		ended = s.work(work, stop, r, lease)
	})
}

// leave lets a run go that is worked on no more.
func (s *Service) leave(work context.Context, id int64, lease records.Lease) {
	s.mu.Lock()
	delete(s.busy, id)
	s.mu.Unlock()
	if err := s.db.Release(context.WithoutCancel(work), lease); err != nil {
		slog.Warn("the lease of a run runs out by itself", "run", id, "error", err)
	}
}

// outlast keeps the lease of a run that was cut off for as long as its work does not end:
// nobody may work on it beside that. It does not count among the runs worked on at a time.
func (s *Service) outlast(work context.Context, id int64, lease records.Lease, ended <-chan struct{}) {
	slog.Error("a run that was stopped goes on working, and was cut off", "run", id)
	s.mu.Lock()
	s.stuck++
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		s.stuck--
		s.mu.Unlock()
		s.leave(work, id, lease)
		s.kick()
	}()
	tick := time.NewTicker(leaseFor / 3)
	defer tick.Stop()
	for {
		select {
		case <-ended:
			return
		case <-tick.C:
			if renewed, err := s.db.Renew(context.WithoutCancel(work), lease, leaseFor); err == nil {
				lease = renewed
			}
		}
	}
}

// work works on a run, and returns what is closed when its worker has ended.
func (s *Service) work(ctx context.Context, stop context.CancelCauseFunc, r model.Run, lease records.Lease) (ended chan struct{}) {
	ended = make(chan struct{})
	lasting := context.WithoutCancel(ctx)
	if ok, err := s.db.BeginRun(lasting, r.ID, now()); err != nil || !ok {
		close(ended)
		return ended
	}
	job := &Job{db: s.db, ID: r.ID, Who: r.Who, run: r, began: time.Now(), before: r.WorkedMs, changed: s.changed}
	kept, err := s.db.Work(lasting, r.ID)
	if err != nil {
		close(ended)
	} else {
		job.settings, job.checkpoint, job.result = kept.Settings, kept.Checkpoint, kept.Result
		beating := make(chan struct{})
		guard.Go(func() {
			defer close(beating)
			if err := guard.Do(func() { s.heart(ctx, stop, job, lease) }); err != nil {
				stop(err) // nobody keeps the lease any more
			}
		})
		err = s.untilStopped(ctx, job, s.workers[r.Kind], ended)
		stop(err)
		<-beating
	}
	s.end(lasting, ctx, job, err)
	return ended
}

// untilStopped works until a worker has ended, or somebody has wanted it to stop and it
// did not for stopsWithin. It closes ended when the worker has ended.
func (s *Service) untilStopped(ctx context.Context, job *Job, worker Worker, ended chan struct{}) error {
	var err error
	guard.Go(func() {
		defer close(ended)
		err = guard.Call(func() error { return worker(ctx, job) })
	})
	select {
	case <-ended:
		return err
	case <-ctx.Done():
	}
	if !errors.Is(context.Cause(ctx), ErrStopped) {
		<-ended
		return err
	}
	patience := time.NewTimer(stopsWithin)
	defer patience.Stop()
	select {
	case <-ended:
		return err
	case <-patience.C:
		job.cutOff()
		return errCutOff
	}
}

// heart keeps progress and the lease, and stops the work when somebody wants that.
func (s *Service) heart(ctx context.Context, stop context.CancelCauseFunc, job *Job, lease records.Lease) {
	tick := time.NewTicker(beat)
	defer tick.Stop()
	renewed := time.Now()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		wanted, err := s.db.Progress(ctx, job.snapshot())
		if err == nil {
			_ = s.db.Tell(ctx, "run", fmt.Sprint(job.ID), now())
			s.changed()
		}
		if wanted {
			stop(ErrStopped)
		}
		if time.Since(renewed) > leaseFor/3 {
			if lease, err = s.db.Renew(ctx, lease, leaseFor); err == nil {
				renewed = time.Now()
			} else if time.Since(renewed) > leaseFor {
				stop(errShutdown) // another instance may have it by now
			}
		}
	}
}

// end keeps how a run came out.
func (s *Service) end(ctx, work context.Context, job *Job, err error) {
	cause := context.Cause(work)
	if errors.Is(cause, errShutdown) && err != nil {
		return // it stays "running" and is taken up by whoever finds its lease run out
	}
	r := job.snapshot()
	at := now()
	r.Ended = &at
	switch {
	case err == nil:
		r.State, r.Fraction = model.RunDone, 1
	case errors.Is(err, errCutOff):
		r.State, r.Trouble = model.RunStopped, err.Error()
	case errors.Is(err, ErrStopped), errors.Is(cause, ErrStopped):
		r.State, r.Trouble = model.RunStopped, "stopped by hand"
	default:
		r.State, r.Trouble = model.RunFailed, reason(err)
	}
	err = s.db.Change(ctx, func(tx *records.Tx) error {
		if err := tx.EndRun(ctx, r, job.finished(), r.State != model.RunDone); err != nil {
			return err
		}
		return tx.Tell(ctx, "run", fmt.Sprint(r.ID), at)
	})
	if err != nil {
		slog.Warn("the end of a run could not be kept; it will be taken up again", "run", r.ID, "error", err)
	}
}

func reason(err error) string {
	var e *fault.Error
	if errors.As(err, &e) && e.Remedy != "" {
		return e.Problem + ": " + e.Remedy
	}
	return err.Error()
}

func now() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }

// Work is what a run is to do, and to what.
type Work struct {
	Subject  string
	Settings any
}

// Start starts a run.
func (s *Service) Start(ctx context.Context, kind, subject string, settings any) (int64, error) {
	ids, err := s.StartAll(ctx, kind, []Work{{subject, settings}})
	if err != nil {
		return 0, err
	}
	return ids[0], nil
}

// StartAll starts several runs of one kind, or none of them.
func (s *Service) StartAll(ctx context.Context, kind string, all []Work) (ids []int64, err error) {
	u, someone := access.Actor(ctx)
	who := "nobody"
	if someone {
		who = u.Name
	}
	err = s.db.Change(ctx, func(tx *records.Tx) error {
		ids = nil
		if someone {
			if err := roomFor(ctx, tx, who, len(all)); err != nil {
				return err
			}
		}
		for _, w := range all {
			id, err := tx.AddRun(ctx, model.Run{Kind: kind, Subject: w.Subject, Who: who, Created: now()}, w.Settings)
			if err != nil {
				return err
			}
			ids = append(ids, id)
			if err := tx.Record(ctx, access.Change(ctx, kind+".start", w.Subject, nil, w.Settings), "run"); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil {
		s.changed()
		s.kick()
	}
	return ids, err
}

// roomFor refuses more open runs of one person than mostOpen.
func roomFor(ctx context.Context, tx *records.Tx, who string, more int) error {
	open, err := tx.OpenRuns(ctx, who)
	if err == nil && open+more > mostOpen {
		return fault.New(fault.Throttled, "wait until some of them have ended, or stop them", "%s has %d runs that wait or are worked on, and cannot start %d more: at most %d at a time", who, open, more, mostOpen)
	}
	return err
}

// Get finds a run.
func (s *Service) Get(ctx context.Context, id int64) (model.Run, error) {
	r, err := s.db.Run(ctx, id)
	return told(r), err
}

// List lists runs, newest first.
func (s *Service) List(ctx context.Context, kind, subject string, before int64, limit int) ([]model.Run, error) {
	runs, err := s.db.Runs(ctx, kind, subject, before, limit)
	for i := range runs {
		runs[i] = told(runs[i])
	}
	return runs, err
}

// told adds what follows from the figures: rate and time left.
func told(r model.Run) model.Run {
	if r.WorkedMs > 0 {
		r.Rate = float64(r.Done) / (float64(r.WorkedMs) / 1000)
	}
	if r.State == model.RunRunning && r.Fraction > 0.01 && r.WorkedMs > 500 {
		left := int64(float64(r.WorkedMs) / 1000 * (1 - r.Fraction) / r.Fraction)
		r.LeftS = &left
	}
	return r
}

// Stop asks a run to stop.
func (s *Service) Stop(ctx context.Context, id int64) error {
	err := s.set(ctx, id, "stop", func(tx *records.Tx) error { return tx.WantStop(ctx, id, now()) })
	s.mu.Lock()
	defer s.mu.Unlock()
	if stop, ok := s.busy[id]; ok && err == nil {
		stop(ErrStopped)
	}
	return err
}

// Resume makes a stopped or failed run go on.
func (s *Service) Resume(ctx context.Context, id int64) error {
	err := s.set(ctx, id, "resume", func(tx *records.Tx) error { return tx.Again(ctx, id) })
	s.kick()
	return err
}

// Remove forgets a run that ended.
func (s *Service) Remove(ctx context.Context, id int64) error {
	return s.set(ctx, id, "remove", func(tx *records.Tx) error { return tx.RemoveRun(ctx, id) })
}

func (s *Service) set(ctx context.Context, id int64, what string, do func(tx *records.Tx) error) error {
	defer s.changed()
	return s.db.Change(ctx, func(tx *records.Tx) error {
		r, err := tx.Run(ctx, id)
		if err != nil {
			return err
		}
		if err := do(tx); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "run."+what, fmt.Sprintf("%d (%s of %s)", id, r.Kind, r.Subject), nil, nil), "run")
	})
}

// Await waits until a run ended, or ctx does, and returns it as it is then.
func (s *Service) Await(ctx context.Context, id int64, most time.Duration) (model.Run, error) {
	deadline := time.After(most)
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for {
		r, err := s.Get(ctx, id)
		if err != nil || r.State.Ended() {
			return r, err
		}
		select {
		case <-ctx.Done():
			return r, nil
		case <-deadline:
			return r, nil
		case <-tick.C:
		}
	}
}

// Settings reads what a run is to do.
func (s *Service) Settings(ctx context.Context, id int64, into any) error {
	w, err := s.db.Work(ctx, id)
	if err != nil {
		return err
	}
	return json.Unmarshal(w.Settings, into)
}

// Result reads what a run found, so far; it reports whether there is anything.
func (s *Service) Result(ctx context.Context, id int64, into any) (bool, error) {
	w, err := s.db.Work(ctx, id)
	if err != nil || len(w.Result) == 0 {
		return false, err
	}
	return true, json.Unmarshal(w.Result, into)
}
