// Package worker works on replica sets: each is scanned and carried by one instance at a time,
// for as long as it holds the lease.
package worker

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"bridgespan/guard"
	"bridgespan/records"
	"bridgespan/service/events"
	"bridgespan/service/replicas/sets"
	"bridgespan/service/work"
)

// Workers work on the sets whose leases this instance holds.
type Workers struct {
	*sets.Base
	leases *work.Leases

	mu      sync.Mutex
	keepers map[int64]*keeper // by the numbers of the sets
}

// New makes the workers; Run must be called for them to begin.
func New(base *sets.Base, leases *work.Leases) *Workers {
	return &Workers{Base: base, leases: leases, keepers: map[int64]*keeper{}}
}

// takeUpEvery is how often sets are looked for that nobody works on.
const takeUpEvery = 5 * time.Second

// Run works on replica sets until ctx ends. Of several instances each set is worked on by
// one. It follows the news: what nobody tells of is looked for seldom.
func (s *Workers) Run(ctx context.Context, hub *events.Hub) {
	news := hub.Watch(0)
	defer news.Close()
	tick := time.NewTicker(takeUpEvery)
	defer tick.Stop()
	for {
		if err := s.takeUp(ctx); err != nil && ctx.Err() == nil {
			slog.Warn("replica sets cannot be taken up", "error", err)
		}
		if !s.follow(ctx, news, tick.C) {
			s.endAll()
			return
		}
	}
}

// follow tells keepers of what concerns them, until sets are to be taken up; false when
// ctx has ended.
func (s *Workers) follow(ctx context.Context, news *events.Watcher, tick <-chan time.Time) bool {
	for {
		select {
		case <-ctx.Done():
			return false
		case <-s.Wake:
			s.nudge("")
			return true
		case <-tick:
			return true
		case e := <-news.C:
			switch {
			case e.Topic == events.Reset, e.Topic == sets.Topic && e.Recorded: // the settings of some set
				s.nudge("")
				return true
			case e.Topic == sets.LookTopic:
				s.nudge(e.Subject)
			}
		}
	}
}

// nudge makes the keeper of a set, or all of them when name is "", look at what people want.
func (s *Workers) nudge(name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, k := range s.keepers {
		if name == "" || k.name.Load() == name {
			k.nudge()
		}
	}
}

// takeUp takes up the sets that nobody works on.
func (s *Workers) takeUp(ctx context.Context) error {
	ids, err := s.DB.SetsToTakeUp(ctx)
	if err != nil {
		return err
	}
	for _, id := range ids {
		s.mu.Lock()
		_, mine := s.keepers[id]
		s.mu.Unlock()
		if mine { // it has lost the lease, and ends
			continue
		}
		lease, err := s.leases.Take(ctx, records.LeaseOfSet(id))
		if err != nil {
			return err
		}
		if lease != nil {
			s.begin(ctx, id, lease)
		}
	}
	return nil
}

// begin lets a keeper work on a set until its lease is lost, it is gone, or the
// service ends.
func (s *Workers) begin(ctx context.Context, id int64, lease *work.Lease) {
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
func (s *Workers) endAll() {
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

// AwaitEnd waits until nobody works on a set that is gone.
func (s *Workers) AwaitEnd(ctx context.Context, id int64) {
	if lease, err := s.leases.Await(ctx, records.LeaseOfSet(id)); err == nil {
		lease.Release()
	}
}
