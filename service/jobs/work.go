package jobs

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/work"
)

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

// takeUp takes up the runs that nobody works on, as far as there are slots.
func (s *Service) takeUp(ctx context.Context) error {
	if err := s.startDue(ctx); err != nil {
		return err
	}
	for _, p := range s.pools {
		if err := s.takeUpFor(ctx, p); err != nil {
			return err
		}
	}
	return nil
}

// takeUpFor takes up runs for the free slots of a pool.
func (s *Service) takeUpFor(ctx context.Context, p *slots) error {
	if !p.TryAcquire(1) {
		return nil
	}
	taken := &slot{pool: p}
	defer func() { taken.leave() }()
	runs, err := s.db.RunsToTakeUp(ctx, p.kinds, 10)
	if err != nil {
		return err
	}
	for _, r := range runs {
		s.mu.Lock()
		_, mine := s.busy[r.ID]
		s.mu.Unlock()
		if mine { // its lease was lost, and its worker has not ended yet
			continue
		}
		lease, err := s.leases.Take(ctx, records.LeaseOfRun(r.ID))
		if err != nil {
			return err
		}
		if lease == nil { // somebody was quicker
			continue
		}
		s.begin(ctx, r, lease, taken)
		taken = &slot{pool: p, gone: true}
		if !p.TryAcquire(1) {
			return nil
		}
		taken.gone = false
	}
	return nil
}

// begin works on a run, in a slot of its pool.
func (s *Service) begin(ctx context.Context, r model.Run, lease *work.Lease, taken *slot) {
	working, stop := lease.Context(context.WithoutCancel(ctx))
	s.mu.Lock()
	s.busy[r.ID] = stop
	s.mu.Unlock()
	s.group.Go(func() {
		ended := make(chan struct{})
		close(ended) // no worker has begun yet: what work returns takes its place
		defer func() {
			stop(nil)
			taken.leave()
			select {
			case <-ended:
				s.leave(r.ID, lease)
			default:
				// Nobody may work on it beside what does not end.
				slog.Error("a run that was stopped goes on working, and was cut off", "run", r.ID)
				guard.Go(func() { <-ended; s.leave(r.ID, lease); s.kick() })
			}
			s.tellEnded()
			s.changed()
			s.kick()
		}()
		ended = s.work(working, stop, r, taken)
	})
}

// leave lets a run go that is worked on no more.
func (s *Service) leave(id int64, lease *work.Lease) {
	s.mu.Lock()
	delete(s.busy, id)
	s.mu.Unlock()
	lease.Release()
}

// tellEnded wakes those who await a run.
func (s *Service) tellEnded() {
	s.mu.Lock()
	defer s.mu.Unlock()
	close(s.ended)
	s.ended = make(chan struct{})
}

// work works on a run, and returns what is closed when its worker has ended.
func (s *Service) work(ctx context.Context, stop context.CancelCauseFunc, r model.Run, taken *slot) (ended chan struct{}) {
	ended = make(chan struct{})
	lasting := context.WithoutCancel(ctx)
	if ok, err := s.db.BeginRun(lasting, r.ID, now()); err != nil || !ok {
		close(ended)
		return ended
	}
	job := &Job{db: s.db, ID: r.ID, Who: r.Who, run: r, slot: taken, began: time.Now(), before: r.WorkedMs}
	kept, err := s.db.Work(lasting, r.ID)
	if err != nil {
		close(ended)
	} else {
		job.settings, job.checkpoint, job.result = kept.Settings, kept.Checkpoint, kept.Result
		beating := make(chan struct{})
		guard.Go(func() {
			defer close(beating)
			if err := guard.Do(func() { s.heart(ctx, stop, job) }); err != nil {
				stop(err) // nobody hears any more that it is to stop
			}
		})
		err = s.untilStopped(ctx, job, s.kinds[r.Kind], ended)
		stop(err)
		<-beating
	}
	s.end(lasting, ctx, job, err)
	return ended
}

// untilStopped works until a worker has ended, or somebody has wanted it to stop and it
// did not in time. It closes ended when the worker has ended.
func (s *Service) untilStopped(ctx context.Context, job *Job, k kind, ended chan struct{}) error {
	var err error
	guard.Go(func() {
		defer close(ended)
		err = guard.Call(func() error { return k.worker(ctx, job) })
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
	patience := time.NewTimer(cmp.Or(k.Stop, stopsWithin))
	defer patience.Stop()
	select {
	case <-ended:
		return err
	case <-patience.C:
		job.cutOff()
		return errCutOff
	}
}

// heart keeps progress, and stops the work when somebody wants that.
func (s *Service) heart(ctx context.Context, stop context.CancelCauseFunc, job *Job) {
	tick := time.NewTicker(beat)
	defer tick.Stop()
	var told model.Run
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		r := job.snapshot()
		wanted, err := s.db.Progress(ctx, r)
		if err == nil && !sameProgress(r, told) {
			told = r
			_ = s.db.Tell(ctx, "progress", fmt.Sprint(job.ID), now())
			s.changed()
		}
		if wanted {
			stop(ErrStopped)
		}
	}
}

// sameProgress reports whether there is nothing new to be told of a run.
func sameProgress(a, b model.Run) bool {
	return a.Done == b.Done && a.Bytes == b.Bytes && a.Fraction == b.Fraction && a.Waits == b.Waits
}

// end keeps how a run came out.
func (s *Service) end(ctx, working context.Context, job *Job, err error) {
	cause := context.Cause(working)
	if err != nil && (errors.Is(cause, errShutdown) || errors.Is(cause, work.ErrLost) || errors.Is(err, records.ErrTakenOver)) {
		return // it stays "running": whoever finds it with no lease goes on with it
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
