package movers

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/mover/update"
	"bridgespan/records"
	"bridgespan/service/endpoint"
	"bridgespan/service/jobs"
	"bridgespan/service/preflight"
)

// Bounds of the update of one mover.
const (
	readyMost  = 2 * time.Minute // until it answers with the new program and its edges are ready
	readyEvery = 500 * time.Millisecond
)

// work updates movers one after the other, and ends with the first one that fails.
func (s *Service) work(ctx context.Context, job *jobs.Job) error {
	var asked model.UpdateMovers
	if err := job.Settings(&asked); err != nil {
		return err
	}
	result := model.MoverUpdates{Movers: []model.UpdatedMover{}}
	list, err := s.Movers(ctx)
	if err != nil {
		return err
	}
	for _, m := range list {
		chosen := slices.ContainsFunc(asked.Servers, func(name string) bool { return namespace.Key(name) == namespace.Key(m.Server) })
		if chosen || len(asked.Servers) == 0 && m.State == model.MoverOutdated && !m.Unable {
			result.Movers = append(result.Movers, model.UpdatedMover{Server: m.Server, From: m.Version, State: model.UpdateWaiting})
		}
	}
	began := time.Now()
	var failed error
	for i := range result.Movers {
		m := &result.Movers[i]
		switch {
		case ctx.Err() != nil:
			return errors.Join(jobs.ErrStopped, job.Finish(result))
		case failed != nil:
			m.State, m.Problem = model.UpdateSkipped, "the update before it failed"
			continue
		case asked.ForMin > 0 && time.Since(began) > time.Duration(asked.ForMin)*time.Minute:
			m.State, m.Problem = model.UpdateSkipped, "the window ended"
			continue
		}
		m.State = model.UpdateUnderWay
		if err := job.Checkpoint(ctx, struct{}{}, result); err != nil {
			return err
		}
		failed = s.one(ctx, m)
		job.Progress(int64(i+1), 0, float64(i+1)/float64(len(result.Movers)))
	}
	if err := job.Finish(result); err != nil {
		return err
	}
	return failed
}

// one updates a mover, and tells what came of it.
func (s *Service) one(ctx context.Context, m *model.UpdatedMover) error {
	began := time.Now()
	err := s.update(ctx, m.Server)
	m.TookMs = time.Since(began).Milliseconds()
	switch {
	case errors.Is(err, errCurrent):
		m.State = model.UpdateNeedless
		return nil
	case err != nil:
		m.State, m.Problem = model.UpdateFailed, preflight.Words(err)
		return fmt.Errorf("%s was not updated: %w", m.Server, err)
	}
	m.State = model.UpdateDone
	return nil
}

// errCurrent is returned for a mover that runs the build of the service already.
var errCurrent = errors.New("the mover is current")

func (s *Service) update(ctx context.Context, server string) error {
	r, err := s.estate.Reach(ctx, server)
	if err != nil {
		return err
	}
	defer r.Close()
	host, info, ok := endpoint.Host(r.Endpoint)
	switch {
	case !ok:
		return fault.New(fault.Invalid, "name a host with a mover", "%s has no mover", server)
	case info.Build == s.program.Digest:
		return errCurrent
	case info.Unable != "":
		return fault.New(fault.Needed, "let the mover write there, or replace its program on the host", "%s", info.Unable)
	}
	program, err := os.Open("/proc/self/exe") // the file may have been replaced since it was started
	if err != nil {
		return err
	}
	defer program.Close()
	o := update.Offer{Version: s.version, Platform: update.Platform, Digest: s.program.Digest, Size: s.program.Size, Issued: time.Now().UTC()}
	o.Sign(s.key)
	if err := update.Send(ctx, host, o, program); err != nil {
		return err
	}
	return s.awaitReady(ctx, server)
}

// awaitReady waits until a mover runs the build of the service, and the contents of its edges can be fetched again.
func (s *Service) awaitReady(ctx context.Context, server string) error {
	ctx, cancel := context.WithTimeout(ctx, readyMost)
	defer cancel()
	tick := time.NewTicker(readyEvery)
	defer tick.Stop()
	for {
		missing, err := s.missing(ctx, server)
		if err != nil || missing == "" {
			return err
		}
		select {
		case <-ctx.Done():
			return fault.New(fault.Unavailable, "look at the mover and its log on the host", "within %s after the update: %s", readyMost, missing)
		case <-tick.C:
		}
	}
}

// missing tells what is still missing after an update; "" when all is as before. It returns an error when the update was undone.
func (s *Service) missing(ctx context.Context, server string) (string, error) {
	r, err := s.estate.Reach(ctx, server)
	if err != nil {
		return "the mover does not answer: " + preflight.Words(err), nil
	}
	_, info, _ := endpoint.Host(r.Endpoint)
	if err := r.Close(); err != nil {
		return "", err
	}
	switch {
	case info.Build != s.program.Digest && info.Reverted != "":
		return "", fault.New(fault.Unavailable, "look at the log of the mover on the host", "%s", info.Reverted)
	case info.Build != s.program.Digest:
		return "the mover runs another build", nil
	}
	sets, err := s.db.ReplicaSets(ctx, records.All)
	if err != nil {
		return "", err
	}
	for _, e := range edgesAt(sets, server) {
		switch status, err := s.estate.LookAtEdge(ctx, e.at); {
		case err != nil:
			return fmt.Sprintf("the edge of %s does not answer: %s", e.set, preflight.Words(err)), nil
		case !status.Ready:
			return fmt.Sprintf("the edge of %s is not ready", e.set), nil
		}
	}
	return "", nil
}
