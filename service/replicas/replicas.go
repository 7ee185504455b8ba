// Package replicas keeps folders the same in several places: it makes and
// changes replica sets, tells how they are, and works on them for as long as it
// holds their lease, one keeper for each.
package replicas

import (
	"context"
	"fmt"
	"time"

	"bridgespan/core/namespace"
	"bridgespan/core/replica"
	"bridgespan/model"
	"bridgespan/mover/replication"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/accounts"
	"bridgespan/service/estate"
	"bridgespan/service/jobs"
	"bridgespan/service/replicas/edges"
	"bridgespan/service/replicas/planning"
	"bridgespan/service/replicas/proof"
	"bridgespan/service/replicas/sets"
	"bridgespan/service/replicas/setup"
	"bridgespan/service/replicas/worker"
	"bridgespan/service/work"
)

// Service is the use case.
type Service struct {
	*sets.Base
	*planning.Plans
	*proof.Proofs
	*edges.Edges
	*worker.Workers
	*setup.Setups
	publish Publisher
}

// Publisher makes a signpost lead to places.
type Publisher func(ctx context.Context, path string, targets []namespace.Target) error

// PublishBy says who makes signposts lead to the replicas of a set.
func (s *Service) PublishBy(p Publisher) { s.publish = p }

// New makes the service; Run must be called for it to work on sets. holder names
// this instance in leases; changed is called after every change.
func New(db *records.DB, e *estate.Service, a *accounts.Service, j *jobs.Service, leases *work.Leases, changed func()) *Service {
	base := &sets.Base{DB: db, Estate: e, People: a, Runs: j, Changed: changed, Wake: make(chan struct{}, 1)}
	proofs := proof.New(base)
	s := &Service{Base: base, Proofs: proofs, Edges: edges.New(base, proofs.Probes), Workers: worker.New(base, leases)}
	s.Plans = planning.New(base, s.plannedSteps)
	s.Setups = setup.New(base, s.Plans, s.Create)
	j.Register(createKind, jobs.Policy{Role: model.Administrator, Pool: jobs.Interactive, Exclusive: true, Stop: jobs.StopsSteps}, s.createSet)
	return s
}

// Sets lists replica sets by name.
func (s *Service) Sets(ctx context.Context, page records.Page) ([]model.ReplicaSet, error) {
	sets, err := s.DB.ReplicaSets(ctx, page)
	if err != nil {
		return nil, err
	}
	return sets, s.tell(ctx, sets)
}

// Set shows a replica set.
func (s *Service) Set(ctx context.Context, name string) (model.ReplicaSet, error) {
	set, err := s.DB.ReplicaSet(ctx, name)
	if err != nil {
		return set, err
	}
	sets := []model.ReplicaSet{set}
	err = s.tell(ctx, sets)
	return sets[0], err
}

// Edit changes the settings of a set. version is what the caller last read.
func (s *Service) Edit(ctx context.Context, name string, version int64, e model.EditReplicaSet) error {
	return s.Change(ctx, func(tx *records.Tx) error {
		set, err := tx.ReplicaSet(ctx, name)
		if err != nil {
			return err
		}
		before := sets.AsEdited(set)
		set.Version = version
		former := set.Lanes
		if err := sets.Edit(&set, e); err != nil {
			return err
		}
		if err := tx.UpdateReplicaSet(ctx, set); err != nil {
			return tx.Since(ctx, err, set.Name, version)
		}
		if err := replaceLanes(ctx, tx, set, former); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "replica.edit", set.Name, before, sets.AsEdited(set)), sets.Topic)
	})
}

// replaceLanes adds the lanes that a set did not have, and removes those that it
// has no more. Whoever works on the set queues all paths on a new lane before it begins.
func replaceLanes(ctx context.Context, tx *records.Tx, set model.ReplicaSet, former []model.Lane) error {
	was := map[[2]int64]bool{}
	for _, l := range former {
		was[[2]int64{l.FromID, l.ToID}] = true
	}
	for _, l := range set.Lanes {
		if was[[2]int64{l.FromID, l.ToID}] {
			delete(was, [2]int64{l.FromID, l.ToID})
			continue
		}
		l.Unqueued = true
		if err := tx.AddLane(ctx, set.ID, l); err != nil {
			return err
		}
	}
	for _, l := range former {
		if was[[2]int64{l.FromID, l.ToID}] {
			if err := tx.RemoveLane(ctx, l); err != nil {
				return err
			}
		}
	}
	return nil
}

// EditLane changes how a lane is opened and closed.
func (s *Service) EditLane(ctx context.Context, name, from, to string, version int64, e model.EditLane) error {
	return s.Change(ctx, func(tx *records.Tx) error {
		set, err := tx.ReplicaSet(ctx, name)
		if err != nil {
			return err
		}
		l, err := sets.FindLane(&set, from, to)
		if err != nil {
			return err
		}
		before := *l
		if err := sets.EditLane(l, e); err != nil {
			return err
		}
		if err := tx.UpdateLane(ctx, *l); err != nil {
			return err
		}
		set.Version = version
		if err := tx.UpdateReplicaSet(ctx, set); err != nil {
			return tx.Since(ctx, err, set.Name, version)
		}
		return tx.Record(ctx, access.Change(ctx, "replica.lane", fmt.Sprintf("%s: %s to %s", set.Name, l.From, l.To), sets.LaneSettings(before), sets.LaneSettings(*l)), sets.Topic)
	})
}

// Remove removes a set and what is known of its replicas. The files stay, those
// in the attics too.
func (s *Service) Remove(ctx context.Context, name string, version int64) error {
	set, err := s.DB.ReplicaSet(ctx, name)
	if err != nil {
		return err
	}
	if err := sets.NoStubs(&set, "set"); err != nil {
		return err
	}
	err = s.Change(ctx, func(tx *records.Tx) error {
		removed := set
		removed.Version = version
		if err := tx.RemoveReplicaSet(ctx, removed); err != nil {
			return tx.Since(ctx, err, set.Name, version)
		}
		if err := tx.RemoveJobsOf(ctx, []string{proof.VerifyKind, proof.ProbeKind}, set.Name); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "replica.remove", set.Name, sets.AsEdited(set), nil), sets.Topic)
	})
	if err != nil || records.Rehearsing(ctx) {
		return err
	}
	lasting, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*work.Usual)
	defer cancel()
	s.AwaitEnd(lasting, set.ID)
	s.unmark(lasting, set)
	return nil
}

// Troubles lists what could not be done and is tried again, the oldest first.
func (s *Service) Troubles(ctx context.Context, name string) ([]model.ReplicaTrouble, error) {
	set, err := s.DB.ReplicaSet(ctx, name)
	if err != nil {
		return nil, err
	}
	return s.DB.ReplicaTroubles(ctx, set.ID, 1000)
}

// Waiting lists what waits in the backlog of a lane, at most so much.
func (s *Service) Waiting(ctx context.Context, name, from, to string, limit int) ([]model.WaitingPath, error) {
	set, err := s.DB.ReplicaSet(ctx, name)
	if err != nil {
		return nil, err
	}
	l, err := sets.FindLane(&set, from, to)
	if err != nil {
		return nil, err
	}
	return s.DB.Waiting(ctx, replica.Lane{From: replica.ID(l.FromID), To: replica.ID(l.ToID)}, limit)
}

// History tells how the lanes of a set did since a moment.
func (s *Service) History(ctx context.Context, name string, since time.Time) (model.LaneHistory, error) {
	set, err := s.DB.ReplicaSet(ctx, name)
	if err != nil {
		return model.LaneHistory{}, err
	}
	samples, err := s.DB.LaneSamples(ctx, set.ID, since)
	return model.LaneHistory{Samples: samples}, err
}

// unmark takes the marks away from the replicas of a set that is gone, so that
// they can be used for another one. What does not answer keeps its own.
func (s *Service) unmark(ctx context.Context, set model.ReplicaSet) {
	for i := range set.Replicas {
		_ = s.Estate.RemoveEdge(ctx, set.Replicas[i].Target())
		if t, err := s.Open(ctx, set.Replicas[i].Target()); err == nil {
			_ = t.Remove(ctx, replication.MarkFile)
			_ = t.Close()
		}
	}
}
