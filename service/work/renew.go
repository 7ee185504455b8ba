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

// keepRenewed adds a lease to those that are renewed.
func (s *Leases) keepRenewed(l *Lease) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.taken = append(s.taken, l)
	if s.over != nil {
		return
	}
	ctx, over := context.WithCancel(context.Background()) // until the last lease is released
	s.over = over
	guard.Go(func() { guard.Always(ctx, func() { s.renew(ctx) }) })
}

// leaveAlone stops renewing a lease, and waits for a renewal in progress.
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

// renew renews all leases at intervals until ctx ends.
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

// renewOnce renews all leases. Leases whose rows are free are renewed in one statement, so that a thousand
// idle sets cost no more than one. Each of the others is renewed in a statement of its own.
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

// together is the maximum number of leases in one statement.
const together = 500

// held returns the leases that were not lost.
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

// renewTogether renews the leases whose rows are free, and returns them.
func (s *Leases) renewTogether(ctx context.Context, list []*Lease, length time.Duration) (map[records.Lease]bool, error) {
	ctx, cancel := context.WithTimeout(ctx, length/8) // leaves time for renewAlone
	defer cancel()
	kept := make([]records.Lease, len(list))
	for i, l := range list {
		kept[i] = l.kept
	}
	return s.DB.RenewAll(ctx, kept, length)
}

// renewAlone renews one lease. The lease is lost when renewals have failed for too long.
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
