// Package movers keeps the programs of movers current: the service hands out its own build, signed, by hand or in a weekly window. Movers
// are updated one after the other, and the next one begins when the edges of the one before it are ready again.
package movers

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"slices"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/mover/update"
	"bridgespan/records"
	"bridgespan/service/endpoint"
	"bridgespan/service/estate"
	"bridgespan/service/jobs"
	"bridgespan/service/preflight"
	"bridgespan/service/vault"
)

// Service is the use case.
type Service struct {
	db      *records.DB
	estate  *estate.Service
	jobs    *jobs.Service
	key     ed25519.PrivateKey
	program update.Program
	version string // of the program
}

// RunKind is the kind of runs that update movers; Subject is what they and saved updates are about.
const (
	RunKind = "update-movers"
	Subject = "movers"
)

// New makes the service. The program that runs is what movers are given.
func New(db *records.DB, v *vault.Vault, e *estate.Service, j *jobs.Service, version string) (*Service, error) {
	program, err := update.Running()
	if err != nil {
		return nil, err
	}
	key, err := v.SigningKey("mover updates")
	if err != nil {
		return nil, err
	}
	s := &Service{db: db, estate: e, jobs: j, key: key, program: program, version: version}
	j.Register(RunKind, jobs.Policy{Role: model.Administrator, Pool: jobs.Interactive, Exclusive: true, Stop: jobs.StopsSteps}, s.work)
	return s, nil
}

// askedTogether is how many movers are asked at the same time.
const askedTogether = 8

// Movers lists the movers with their programs, by server.
func (s *Service) Movers(ctx context.Context) ([]model.Mover, error) {
	servers, err := s.db.Servers(ctx, records.All)
	if err != nil {
		return nil, err
	}
	sets, err := s.db.ReplicaSets(ctx, records.All)
	if err != nil {
		return nil, err
	}
	servers = slices.DeleteFunc(servers, func(v model.Server) bool { return !v.Can(model.ShowsCertificate) })
	list := make([]model.Mover, len(servers))
	var group guard.Group
	group.SetLimit(askedTogether)
	for i, v := range servers {
		list[i] = model.Mover{Server: v.Name, Site: v.Site, Edges: []string{}}
		for _, e := range edgesAt(sets, v.Name) {
			list[i].Edges = append(list[i].Edges, e.set)
		}
		group.Go(func() error {
			s.ask(ctx, &list[i])
			return ctx.Err()
		})
	}
	return list, group.Wait()
}

// ask fills in what a mover reports.
func (s *Service) ask(ctx context.Context, m *model.Mover) {
	r, err := s.estate.Reach(ctx, m.Server)
	if err != nil {
		m.State, m.Problem = model.MoverUnreachable, preflight.Words(err)
		return
	}
	defer r.Close()
	_, info, _ := endpoint.Host(r.Endpoint)
	m.Version, m.State = info.Version, model.MoverOutdated
	if info.Build == s.program.Digest {
		m.State = model.MoverCurrent
	}
	switch {
	case info.Unable != "":
		m.Unable, m.Problem = true, info.Unable
	case info.Build == "":
		m.Unable, m.Problem = true, "its mover is too old to be updated by the service: replace its program on the host once"
	case m.State == model.MoverOutdated:
		m.Problem = info.Reverted
	}
}

// edgeAt is an edge with stubs.
type edgeAt struct {
	set string
	at  namespace.Target
}

// edgesAt are the edges with stubs at a server.
func edgesAt(sets []model.ReplicaSet, server string) (edges []edgeAt) {
	for i := range sets {
		for k := range sets[i].Replicas {
			if r := &sets[i].Replicas[k]; r.Server == server && r.Edge.HasStubs() {
				edges = append(edges, edgeAt{sets[i].Name, r.Target()})
			}
		}
	}
	return edges
}

// Update begins to update movers.
func (s *Service) Update(ctx context.Context, asked model.UpdateMovers) (model.MoverUpdates, error) {
	if err := s.checkServers(ctx, asked); err != nil {
		return model.MoverUpdates{}, err
	}
	run, err := s.jobs.Start(ctx, RunKind, Subject, asked)
	if err != nil {
		return model.MoverUpdates{}, err
	}
	return s.Updates(ctx, run)
}

// Schedule saves updates that are made again and again.
func (s *Service) Schedule(ctx context.Context, asked model.ScheduleMoverUpdates) (model.Job, error) {
	if err := s.checkServers(ctx, asked.UpdateMovers); err != nil {
		return model.Job{}, err
	}
	return s.jobs.Schedule(ctx, RunKind, asked.Rule, jobs.Work{Subject: Subject, Settings: asked.UpdateMovers})
}

// Updates shows a run that updates movers.
func (s *Service) Updates(ctx context.Context, id int64) (model.MoverUpdates, error) {
	u := model.MoverUpdates{Movers: []model.UpdatedMover{}}
	r, err := s.jobs.Read(ctx, id, RunKind, nil, &u)
	u.Run = r
	return u, err
}

// Windows returns when a mover is updated by saved updates, as rules; none when it is updated by hand.
func Windows(jobs []model.Job, server string) (rules []string) {
	for _, j := range jobs {
		var asked model.UpdateMovers
		if j.Kind != RunKind || !j.Enabled || json.Unmarshal([]byte(j.Settings), &asked) != nil {
			continue
		}
		if len(asked.Servers) == 0 || slices.ContainsFunc(asked.Servers, func(name string) bool { return namespace.Key(name) == namespace.Key(server) }) {
			rules = append(rules, j.Rule)
		}
	}
	return rules
}

func (s *Service) checkServers(ctx context.Context, asked model.UpdateMovers) error {
	for _, name := range asked.Servers {
		v, err := s.db.Server(ctx, name)
		if err != nil {
			return err
		}
		if !v.Can(model.ShowsCertificate) {
			return fault.Field("servers", "name hosts with a mover", "%s has no mover", v.Name)
		}
	}
	return nil
}
