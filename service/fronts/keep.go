package fronts

import (
	"context"
	"log/slog"
	"time"

	"bridgespan/core/fault"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/service/work"
)

// keepLease is the name of the lease under which one instance keeps all fronts.
const keepLease = "keep fronts"

// Run keeps all fronts current until ctx ends. Of several instances one does the work.
func (s *Service) Run(ctx context.Context, leases *work.Leases) {
	leases.Keep(ctx, keepLease, func(ctx context.Context) time.Duration {
		s.keepAll(ctx)
		return time.Second
	})
}

// Kick makes the fronts be looked at: something has changed that they may show.
func (s *Service) Kick() {
	ring(s.settled)
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, w := range s.writers {
		ring(w.news)
	}
}

func ring(bell chan struct{}) {
	select {
	case bell <- struct{}{}:
	default:
	}
}

// settleEvery is how often is looked for fronts that nobody told of.
const settleEvery = 5 * time.Second

// keepAll has a writer for each front until ctx ends.
func (s *Service) keepAll(ctx context.Context) {
	defer s.endAll()
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	guard.Go(func() { guard.Always(ctx, func() { s.probe(ctx) }) })
	tick := time.NewTicker(settleEvery)
	defer tick.Stop()
	for ctx.Err() == nil {
		fronts, err := s.db.Fronts(ctx, "")
		if err == nil {
			s.settle(ctx, fronts)
			s.letGo(ctx, fronts)
		} else if ctx.Err() == nil {
			slog.Warn("fronts cannot be read", "error", err)
		}
		select {
		case <-ctx.Done():
		case <-s.settled:
		case <-tick.C:
		}
	}
}

// settle begins and ends writers, so that each front has one with its settings.
func (s *Service) settle(ctx context.Context, fronts []model.Front) {
	s.mu.Lock()
	defer s.mu.Unlock()
	there := map[int64]bool{}
	for _, f := range fronts {
		there[f.ID] = f.State != model.FrontLeaving
		if !there[f.ID] {
			continue
		}
		w := s.writers[f.ID]
		if w != nil && w.keeps(f) {
			continue
		}
		if w != nil {
			w.stop()
			<-w.ended
		}
		s.begin(ctx, f)
	}
	for id, w := range s.writers {
		if !there[id] {
			w.stop()
			<-w.ended
			delete(s.writers, id)
		}
	}
}

// begin lets a writer keep a front. s.mu is held.
func (s *Service) begin(ctx context.Context, f model.Front) {
	working, stop := context.WithCancel(ctx)
	w := &writer{Service: s, front: f, news: make(chan struct{}, 1), check: make(chan struct{}, 1), toCheck: map[string]bool{}, stop: stop, ended: make(chan struct{})}
	s.writers[f.ID] = w
	var group guard.WaitGroup
	group.Go(func() { guard.Always(working, func() { w.run(working) }) })
	if f.CheckAccount != "" {
		group.Go(func() { guard.Always(working, func() { w.checks(working) }) })
	}
	guard.Go(func() {
		defer close(w.ended)
		_ = group.Wait() // each of both begins anew after a fault of ours
	})
}

func (s *Service) endAll() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for id, w := range s.writers {
		w.stop()
		<-w.ended
		delete(s.writers, id)
	}
}

// letGo records of leaving fronts that no instance writes them: this instance holds the lease of all fronts.
func (s *Service) letGo(ctx context.Context, fronts []model.Front) {
	for _, f := range fronts {
		if f.State != model.FrontLeaving || f.LetGo {
			continue
		}
		if err := s.db.LetGoOfFront(ctx, f.ID); err != nil && ctx.Err() == nil {
			slog.Warn("releasing a front that is being removed failed", "front", name(f), "error", err)
		}
	}
}

// letGoWithin bounds the wait for the instance that keeps a front. When that one dies, another takes the lease
// over sooner.
const letGoWithin = 30 * time.Second

// awaitLetGo waits until no instance writes a front that is leaving.
func (s *Service) awaitLetGo(ctx context.Context, f model.Front) error {
	deadline := time.After(letGoWithin)
	tick := time.NewTicker(50 * time.Millisecond) // another instance may keep it
	defer tick.Stop()
	for {
		now, err := s.db.Front(ctx, f.Server, f.Share)
		if err != nil || now.LetGo {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-deadline:
			return fault.New(fault.Unavailable, "try again in a minute", "the instance that writes %s did not stop within 30 s", name(f))
		case <-tick.C:
		}
	}
}
