package replicas

import (
	"context"

	"bridgespan/core/fault"
	"bridgespan/model"
)

// planOf finds the newest plan of what a set is to be made of; 0 when it was not
// planned.
func (s *Service) planOf(ctx context.Context, n model.NewReplicaSet) (int64, error) {
	runs, err := s.jobs.List(ctx, planKind, n.Name, 0, 10)
	if err != nil {
		return 0, err
	}
	for _, r := range runs {
		if r.State != model.RunDone {
			continue
		}
		var asked model.NewReplicaSet
		if err := s.jobs.Settings(ctx, r.ID, &asked); err != nil {
			return 0, err
		}
		if jsonText(asked) == jsonText(n) {
			return r.ID, nil
		}
	}
	return 0, nil
}

// plannedIntakes lets intakes hold as much as the plan of the set has worked out, where
// nobody said how much.
func (s *Service) plannedIntakes(ctx context.Context, set *model.ReplicaSet, asked model.NewReplicaSet) error {
	if set.PlanRun == 0 {
		return nil
	}
	p, err := s.Planned(ctx, set.PlanRun)
	if fault.KindOf(err) == fault.NotFound { // the run was removed
		return nil
	}
	for i := range asked.Replicas {
		if asked.Replicas[i].IntakeQuota == 0 && p.Intake > 0 {
			set.Replicas[i].IntakeQuota = p.Intake
		}
	}
	return err
}

// foretold tells when the replicas of a set were to be filled by its plan, as if
// that had begun when the set was made.
func (s *Service) foretold(ctx context.Context, set *model.ReplicaSet) error {
	if set.PlanRun == 0 {
		return nil
	}
	p, err := s.Planned(ctx, set.PlanRun)
	if fault.KindOf(err) == fault.NotFound { // the run was removed
		set.PlanRun = 0
		return nil
	}
	if err != nil || len(p.Layouts) == 0 || p.Run.Ended == nil {
		return err
	}
	for _, f := range p.Layouts[0].Fills {
		r, err := findReplica(set, f.Replica)
		if err != nil || f.End == nil {
			continue
		}
		at := set.Created.Add(f.End.Sub(*p.Run.Started))
		r.Foretold = &at
	}
	return nil
}
