package replicas

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"bridgespan/guard"
	"bridgespan/records"
)

// Times of the work. A lease outlives several beats, so that a pause of the
// database does not hand a set to another instance.
const (
	takeUpEvery = 5 * time.Second
	leaseFor    = 20 * time.Second
)

func leaseName(set int64) string { return fmt.Sprintf("replica set %d", set) }

func (s *Service) kick() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// Run works on replica sets until ctx ends. Of several instances each set is
// worked on by one, under a lease.
func (s *Service) Run(ctx context.Context) {
	tick := time.NewTicker(takeUpEvery)
	defer tick.Stop()
	for {
		if err := s.takeUp(ctx); err != nil && ctx.Err() == nil {
			slog.Warn("replica sets cannot be taken up", "error", err)
		}
		select {
		case <-ctx.Done():
			s.endAll()
			return
		case <-s.wake:
		case <-tick.C:
		}
	}
}

// takeUp takes up the sets that nobody works on, and tells the others to look at
// their settings.
func (s *Service) takeUp(ctx context.Context) error {
	sets, err := s.db.ReplicaSets(ctx, records.All)
	if err != nil {
		return err
	}
	for _, set := range sets {
		s.mu.Lock()
		k := s.keepers[set.ID]
		s.mu.Unlock()
		if k != nil {
			k.nudge()
			continue
		}
		lease, ok, err := s.db.Acquire(ctx, leaseName(set.ID), s.holder, leaseFor)
		if err != nil {
			return err
		}
		if ok {
			s.begin(ctx, set.ID, lease)
		}
	}
	return nil
}

// begin lets a keeper work on a set until its lease is lost, it is gone, or the
// service ends.
func (s *Service) begin(ctx context.Context, id int64, lease records.Lease) {
	work, stop := context.WithCancel(context.WithoutCancel(ctx))
	k := newKeeper(s, id, lease, stop)
	s.mu.Lock()
	s.keepers[id] = k
	s.mu.Unlock()
	guard.Go(func() {
		defer func() {
			stop()
			if err := s.db.Release(context.WithoutCancel(work), k.lease); err != nil {
				slog.Warn("the lease of a replica set runs out by itself", "set", id, "error", err)
			}
			s.mu.Lock()
			delete(s.keepers, id)
			s.mu.Unlock()
			close(k.ended)
		}()
		k.run(work)
	})
}

// endAll ends all keepers, and waits for them.
func (s *Service) endAll() {
	s.mu.Lock()
	var all []*keeper
	for _, k := range s.keepers {
		k.stop()
		all = append(all, k)
	}
	s.mu.Unlock()
	for _, k := range all {
		<-k.ended
	}
}
