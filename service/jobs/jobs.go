// Package jobs works on what takes a while: runs that are kept in the records,
// show how far they are, stop when asked and go on from where they stopped,
// here or in another instance of the service, also after a crash.
//
// A kind of work is a [Worker], told to the service with Register, and a [Policy]. It is
// given a [Job], through which it reads what it is to do, says how far it is, and
// keeps what it needs to go on. Runs of a [Pool] are worked on in order, a few at a time;
// one that waits for something parks, and others are worked on in its place.
//
// A run is worked on under a lease: what its worker writes is refused once another
// instance has taken it over, see package work.
package jobs

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"bridgespan/core/fault"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/work"
)

// Worker does one kind of work. When it returns nil the run is done; when ctx
// ended because somebody wants it to stop, it returns ErrStopped or ctx's
// error, after keeping what it needs to go on.
type Worker func(ctx context.Context, job *Job) error

// ErrStopped is the cause of the end of a job's context when somebody wants it to stop.
var ErrStopped = errors.New("stopped")

// errCutOff is how a run ends whose worker did not stop in time. Its job returns it from then on.
var errCutOff = errors.New("stopped by hand; the work did not stop in time and was cut off")

// errShutdown is the cause when the service ends: the run goes on later.
var errShutdown = errors.New("the service ends")

// Policy is how runs of a kind are dealt with.
type Policy struct {
	// Role is who may stop them, let them go on, and forget them.
	Role model.Role
	// Pool is whose slots they take.
	Pool Pool
	// Exclusive runs are open one at a time of each subject.
	Exclusive bool
	// Stop is how long their work may take to stop: what changes a server ends the step under
	// way, and writes down what came of it. 0 is stopsWithin.
	Stop time.Duration
}

// kind is work that is known.
type kind struct {
	Policy
	worker Worker
}

// Service is the use case.
type Service struct {
	db      *records.DB
	leases  *work.Leases
	changed func()
	kinds   map[string]kind
	pools   map[Pool]*slots
	wake    chan struct{}

	mu    sync.Mutex
	busy  map[int64]context.CancelCauseFunc
	ended chan struct{} // closed when a run ends here; then there is another one
	group guard.WaitGroup
}

// New makes the service. changed is called after every change.
func New(db *records.DB, leases *work.Leases, changed func()) *Service {
	return &Service{db: db, leases: leases, changed: changed, kinds: map[string]kind{}, pools: free(), wake: make(chan struct{}, 1),
		busy: map[int64]context.CancelCauseFunc{}, ended: make(chan struct{})}
}

// Register tells who does a kind of work, and how its runs are dealt with. It must be
// called before Run.
func (s *Service) Register(name string, p Policy, w Worker) {
	s.kinds[name] = kind{p, w}
	s.pools[p.Pool].add(name)
}

const (
	// lookEvery is how often runs are looked for that others have started, or left.
	lookEvery = 5 * time.Second
	// beat is how often progress is kept, and whether somebody wants a run to stop is read.
	beat = time.Second
)

// stopsWithin is how long work may take to stop, unless its policy says otherwise. After it the
// run counts as stopped, and can keep nothing any more.
const stopsWithin = 3 * time.Second

// StopsSteps is for what is done in steps at servers: one of them may take its time to answer.
const StopsSteps = 30 * time.Second

// mostOpen is how many runs of one person may wait or be worked on at a time.
const mostOpen = 200

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

// Start starts a run. Of an exclusive kind it returns a Taken fault while another one of
// the same subject is open.
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
			id, err := tx.AddRun(ctx, model.Run{Kind: kind, Subject: w.Subject, Who: who, Created: now()}, s.kinds[kind].Exclusive, w.Settings)
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
	err := s.set(ctx, id, "stop", func(tx *records.Tx, _ model.Run) error { return tx.WantStop(ctx, id, now()) })
	s.mu.Lock()
	defer s.mu.Unlock()
	if stop, ok := s.busy[id]; ok && err == nil {
		stop(ErrStopped)
	}
	return err
}

// Resume makes a stopped or failed run go on.
func (s *Service) Resume(ctx context.Context, id int64) error {
	err := s.set(ctx, id, "resume", func(tx *records.Tx, r model.Run) error { return tx.Again(ctx, r, s.kinds[r.Kind].Exclusive) })
	s.kick()
	return err
}

// Remove forgets a run that ended.
func (s *Service) Remove(ctx context.Context, id int64) error {
	return s.set(ctx, id, "remove", func(tx *records.Tx, _ model.Run) error { return tx.RemoveRun(ctx, id) })
}

// set changes a run, as far as who asks for it may.
func (s *Service) set(ctx context.Context, id int64, what string, do func(tx *records.Tx, r model.Run) error) error {
	defer s.changed()
	return s.db.Change(ctx, func(tx *records.Tx) error {
		r, err := tx.Run(ctx, id)
		if err != nil {
			return err
		}
		if _, someone := access.Actor(ctx); someone {
			if err := access.Require(ctx, cmp.Or(s.kinds[r.Kind].Role, model.Administrator)); err != nil {
				return err
			}
		}
		if err := do(tx, r); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "run."+what, fmt.Sprintf("%d (%s of %s)", id, r.Kind, r.Subject), nil, nil), "run")
	})
}

// elsewhereEvery is how often a run is looked at that another instance may work on.
const elsewhereEvery = 500 * time.Millisecond

// Await waits until a run ended, for most at most, or ctx does, and returns it as it is then.
func (s *Service) Await(ctx context.Context, id int64, most time.Duration) (model.Run, error) {
	deadline := time.After(most)
	tick := time.NewTicker(elsewhereEvery)
	defer tick.Stop()
	for {
		s.mu.Lock()
		ended := s.ended
		s.mu.Unlock()
		r, err := s.Get(ctx, id)
		if err != nil || r.State.Ended() {
			return r, err
		}
		select {
		case <-ctx.Done():
			return r, nil
		case <-deadline:
			return r, nil
		case <-ended:
		case <-tick.C:
		}
	}
}

// Read shows a run of the given kind, and reads what was asked of it and what it
// found so far; either may be nil. A run of another kind is not found.
func (s *Service) Read(ctx context.Context, id int64, kind string, asked, found any) (model.Run, error) {
	r, err := s.Get(ctx, id)
	if err != nil {
		return r, err
	}
	if r.Kind != kind {
		return r, fault.New(fault.NotFound, "list the runs of this kind with: bspan run list --kind "+kind, "run %d is of the kind %s, not %s", id, r.Kind, kind)
	}
	if asked != nil {
		if err := s.Settings(ctx, id, asked); err != nil {
			return r, err
		}
	}
	if found != nil {
		_, err = s.Result(ctx, id, found)
	}
	return r, err
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
