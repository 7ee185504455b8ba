package fronts

import (
	"context"
	"log/slog"
	"slices"
	"time"

	"bridgespan/core/namespace"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/records"
)

// probeEvery is how often servers are looked at to which people are led first. One that has hung is
// found out within seconds, see [estate.Service.Suspect].
const probeEvery = 2 * time.Second

// probe looks again and again at the servers that people are led to first, so that fronts lead past one
// that does not answer within seconds, until ctx ends.
func (s *Service) probe(ctx context.Context) {
	tick := time.NewTicker(probeEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		for _, server := range s.serversAt(ctx, s.firstHosts()...) {
			guard.Go(func() { s.estate.Suspect(ctx, server) }) // one that hangs keeps nothing waiting
		}
	}
}

// firstHosts are the hosts that the links of all fronts lead to first.
func (s *Service) firstHosts() (hosts []string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, w := range s.writers {
		if first := w.first.Load(); first != nil {
			hosts = append(hosts, *first...)
		}
	}
	return hosts
}

// serversAt are the file servers that people reach by a name.
func (s *Service) serversAt(ctx context.Context, hosts ...string) (names []string) {
	if len(hosts) == 0 {
		return nil
	}
	servers, err := s.db.Servers(ctx, records.All)
	if err != nil {
		if ctx.Err() == nil {
			slog.Warn("the servers that people are led to cannot be read", "error", err)
		}
		return nil
	}
	for _, v := range servers {
		if v.Can(model.SpeaksSMB) && slices.ContainsFunc(hosts, func(h string) bool { return namespace.Key(h) == namespace.Key(v.PeopleHost()) }) {
			names = append(names, v.Name)
		}
	}
	return names
}
