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

// probeEvery is how often the first server of each link is probed. [estate.Service.Suspect] finds a server
// that has hung within seconds.
const probeEvery = 2 * time.Second

// probe probes the servers that links name first until ctx ends, so that fronts move on to the next location
// within seconds.
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
			guard.Go(func() { s.estate.Suspect(ctx, server) }) // a server that hangs must not delay the others
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

// serversAt are the file servers whose name for people is one of hosts.
func (s *Service) serversAt(ctx context.Context, hosts ...string) (names []string) {
	if len(hosts) == 0 {
		return nil
	}
	servers, err := s.db.Servers(ctx, records.All)
	if err != nil {
		if ctx.Err() == nil {
			slog.Warn("reading the servers to probe failed", "error", err)
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
