package work

import (
	"cmp"
	"context"
	"errors"
	"log/slog"
	"slices"
	"time"

	"bridgespan/guard"
	"bridgespan/records"
)

// keepRenewed has a lease renewed from now on.
func (s *Leases) keepRenewed(l *Lease) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.taken = append(s.taken, l)
	if s.over != nil {
		return
	}
	ctx, over := context.WithCancel(context.Background()) // until none is taken
	s.over = over
	guard.Go(func() { guard.Always(ctx, func() { s.renew(ctx) }) })
}

// leaveAlone has a lease renewed no more; it waits until nobody is about to.
func (s *Leases) leaveAlone(l *Lease) {
	s.renewal.Lock()
	defer s.renewal.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.taken = slices.DeleteFunc(s.taken, func(one *Lease) bool { return one == l })
	if len(s.taken) == 0 && s.over != nil {
		s.over()
		s.over = nil
	}
}

// renew renews all leases again and again until ctx ends.
func (s *Leases) renew(ctx context.Context) {
	length := cmp.Or(s.Length, Usual)
	tick := time.NewTicker(length / 3)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			s.renewOnce(ctx, length)
		}
	}
}

// renewOnce renews all leases, unless the records take too long to say so: those that nobody has at
// hand there together, so that a thousand sets at rest take no more than one, and each of the others alone.
func (s *Leases) renewOnce(ctx context.Context, length time.Duration) {
	s.renewal.Lock()
	defer s.renewal.Unlock()
	ctx, cancel := context.WithTimeout(ctx, length/4)
	defer cancel()
	left := s.held()
	requested := time.Now()
	for part := range slices.Chunk(slices.Clone(left), together) {
		renewed, err := s.renewTogether(ctx, part, length)
		if err != nil {
			slog.Debug("leases are renewed one by one", "error", err)
			break
		}
		left = slices.DeleteFunc(left, func(l *Lease) bool {
			done := renewed[l.kept]
			if done {
				l.requested.Store(&requested)
			}
			return done
		})
	}
	var group guard.WaitGroup
	for _, l := range left {
		group.Go(func() { l.renewAlone(ctx) })
	}
	_ = group.Wait()
}

// together is how many leases are renewed in one statement.
const together = 500

// held are the leases that were not lost.
func (s *Leases) held() (list []*Lease) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, l := range s.taken {
		if l.held.Err() == nil {
			list = append(list, l)
		}
	}
	return list
}

// renewTogether returns those of some leases that could be renewed without waiting for anybody.
func (s *Leases) renewTogether(ctx context.Context, list []*Lease, length time.Duration) (map[records.Lease]bool, error) {
	ctx, cancel := context.WithTimeout(ctx, length/8) // what is left is for the others
	defer cancel()
	kept := make([]records.Lease, len(list))
	for i, l := range list {
		kept[i] = l.kept
	}
	return s.DB.RenewAll(ctx, kept, length)
}

// renewAlone renews a lease, which is lost when that fails for too long.
func (l *Lease) renewAlone(ctx context.Context) {
	requested := time.Now()
	err := l.of.DB.Renew(ctx, l.kept, l.length)
	switch {
	case err == nil:
		l.requested.Store(&requested)
		return
	case errors.Is(err, records.ErrTakenOver):
		l.requested.Store(nil)
	}
	if l.Check() != nil {
		slog.Warn("work is left to other instances", "lease", l.kept.Name, "error", err)
		l.lose(ErrLost)
	}
}
