package replicas

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"bridgespan/guard"
	"bridgespan/records"
	"bridgespan/service/work"
)

// takeUpEvery is how often sets are looked for that nobody works on.
const takeUpEvery = 5 * time.Second

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
		lease, err := s.leases.Take(ctx, leaseName(set.ID))
		if err != nil {
			return err
		}
		if lease != nil {
			s.begin(ctx, set.ID, lease)
		}
	}
	return nil
}

// begin lets a keeper work on a set until its lease is lost, it is gone, or the
// service ends.
func (s *Service) begin(ctx context.Context, id int64, lease *work.Lease) {
	working, stop := lease.Context(context.WithoutCancel(ctx))
	k := newKeeper(s, id, lease, stop)
	s.mu.Lock()
	s.keepers[id] = k
	s.mu.Unlock()
	guard.Go(func() {
		defer func() {
			stop(nil)
			lease.Release()
			s.mu.Lock()
			delete(s.keepers, id)
			s.mu.Unlock()
			close(k.ended)
		}()
		k.run(working)
	})
}

// endAll ends all keepers, and waits for them.
func (s *Service) endAll() {
	s.mu.Lock()
	var all []*keeper
	for _, k := range s.keepers {
		k.stop(nil)
		all = append(all, k)
	}
	s.mu.Unlock()
	for _, k := range all {
		<-k.ended
	}
}
