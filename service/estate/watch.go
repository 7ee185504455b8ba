package estate

import (
	"context"
	"log/slog"
	"math/rand/v2"
	"time"

	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/work"
	"bridgespan/smbadmin"
)

// How often servers are looked at: quickly after a change, slowly when steady.
const (
	lookSteady = 15 * time.Second
	lookSoon   = 3 * time.Second
	watchLease = "watch servers"
)

// Watch looks at every server again and again, until ctx ends, so that people
// are led past those that do not answer. Of several instances one does the work.
func (s *Service) Watch(ctx context.Context, leases *work.Leases) {
	leases.Keep(ctx, watchLease, func(ctx context.Context) time.Duration {
		news, err := s.lookAtAll(ctx)
		if err != nil && ctx.Err() == nil {
			slog.Warn("servers cannot be looked at", "error", err)
		}
		if news {
			return lookSoon
		}
		return lookSteady + rand.N(lookSteady/5)
	})
}

// lookAtAll looks at all servers side by side and reports whether any changed.
func (s *Service) lookAtAll(ctx context.Context) (bool, error) {
	servers, err := s.db.Servers(ctx, records.All)
	if err != nil {
		return false, err
	}
	var group guard.WaitGroup
	limit := make(chan struct{}, 16)
	news := make(chan bool, len(servers))
	for _, v := range servers {
		group.Go(func() {
			limit <- struct{}{}
			defer func() { <-limit }()
			changed, err := s.look(ctx, v, tryTimeout)
			if err != nil && ctx.Err() == nil {
				slog.Warn("a look at a server was not recorded", "server", v.Name, "error", err)
			}
			news <- changed
		})
	}
	_ = group.Wait() // a look that panicked found nothing out
	close(news)
	any := false
	for changed := range news {
		any = any || changed
	}
	return any, nil
}

// Suspect probes one server at once, because a caller got no answer from it. A server that takes much longer
// than usual counts as away. While a probe of the server is running, Suspect returns at once.
func (s *Service) Suspect(ctx context.Context, name string) {
	if _, looking := s.suspected.LoadOrStore(name, true); looking {
		return
	}
	defer s.suspected.Delete(name)
	v, err := s.db.Server(ctx, name)
	if err != nil {
		return
	}
	if _, err := s.look(ctx, v, s.patience(v.Name)); err != nil {
		slog.Warn("a look at a server was not recorded", "server", name, "error", err)
	}
}

// A server that is suspected may take this many times as long as usual.
const (
	leastPatience = 2500 * time.Millisecond
	patienceShare = 10
)

// patience is how long Suspect waits for a server: short enough to find one that hangs, long enough for a
// slow line.
func (s *Service) patience(name string) time.Duration {
	usual, known := s.greeted.Load(name)
	if !known {
		return tryTimeout
	}
	return min(max(patienceShare*usual.(time.Duration), leastPatience), tryTimeout)
}

// noteGreeting records how long a server took to answer. Slower answers before count for a while.
func (s *Service) noteGreeting(name string, took time.Duration) {
	if usual, known := s.greeted.Load(name); known {
		took = max(took, usual.(time.Duration)*9/10)
	}
	s.greeted.Store(name, took)
}

// look probes a server, for at most the given time, and records the result.
func (s *Service) look(ctx context.Context, v model.Server, most time.Duration) (bool, error) {
	if quarantined(v, time.Now()) != nil {
		return false, nil
	}
	if err := s.trustAgain(ctx, v); err != nil {
		return false, err
	}
	tryCtx, cancel := context.WithTimeout(ctx, most)
	defer cancel()
	began := time.Now()
	err := s.greets(tryCtx, v)
	if ctx.Err() != nil {
		return false, ctx.Err()
	}
	if err == nil {
		s.noteGreeting(v.Name, time.Since(began))
	}
	trouble := ""
	if err != nil {
		trouble = cause(err).Error()
	}
	now := time.Now().UTC()
	changed, storeErr := s.db.StoreReach(ctx, v.Name, err == nil, trouble, now)
	if storeErr != nil || !changed {
		return false, storeErr
	}
	slog.Info("a server changed", "server", v.Name, "answers", err == nil, "trouble", trouble)
	if err := s.db.Tell(ctx, "server", v.Name, now); err != nil {
		return true, err
	}
	s.changed()
	return true, nil
}

// greets returns an error unless a server answers as what it is.
func (s *Service) greets(ctx context.Context, v model.Server) error {
	if v.Can(model.SpeaksSMB) {
		_, err := smbadmin.Negotiate(ctx, hostPort(v))
		return err
	}
	if v.Can(model.HoldsBuckets) {
		return greetCloud(ctx, v)
	}
	r, err := s.reach(ctx, v)
	if err == nil {
		err = r.Close()
	}
	return err
}
