package planning

import (
	"context"
	"fmt"
	"strings"

	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/model"
	"bridgespan/service/replicas/sets"
)

// PlanOf finds the newest plan of what a set is to be made of that came to its end; one
// without a run when it was not planned.
func (s *Plans) PlanOf(ctx context.Context, n model.NewReplicaSet) (model.Run, error) {
	return s.latest(ctx, n, func(r model.Run) bool { return r.State == model.RunDone || r.State == model.RunFailed })
}

// LatestPlan finds the newest plan of what a set is to be made of, which may be under way; one without a run when it was not planned.
func (s *Plans) LatestPlan(ctx context.Context, n model.NewReplicaSet) (model.Run, error) {
	return s.latest(ctx, n, func(model.Run) bool { return true })
}

func (s *Plans) latest(ctx context.Context, n model.NewReplicaSet, is func(model.Run) bool) (model.Run, error) {
	runs, err := s.Runs.List(ctx, planKind, n.Name, 0, 10)
	if err != nil {
		return model.Run{}, err
	}
	for _, r := range runs {
		if !is(r) {
			continue
		}
		var asked model.NewReplicaSet
		if err := s.Runs.Settings(ctx, r.ID, &asked); err != nil {
			return model.Run{}, err
		}
		if asked.Anyway = n.Anyway; sets.JsonText(asked) == sets.JsonText(n) {
			return r, nil
		}
	}
	return model.Run{}, nil
}

// Passed returns a fault when the plan of a set failed, or found what stands in its way,
// unless the set is to be made anyway.
func (s *Plans) Passed(ctx context.Context, plan model.Run, n model.NewReplicaSet) error {
	if plan.ID == 0 || n.Anyway {
		return nil
	}
	remedy := fmt.Sprintf("correct this and plan again, or create it anyway; show the plan with: bspan replica planned %d", plan.ID)
	if plan.State == model.RunFailed {
		return fault.New(fault.Needed, remedy, "the plan of %s failed: %s", n.Name, plan.Trouble)
	}
	p, err := s.Planned(ctx, plan.ID)
	if err != nil {
		return err
	}
	var found []string
	for _, l := range p.Checks {
		if l.Severity == finding.Fail {
			found = append(found, l.Code+": "+l.Found)
		}
	}
	if !p.CanCreate {
		return fault.New(fault.Needed, remedy, "%s in the plan of %s failed: %s", sets.Count(int64(len(found)), "check", "checks"), n.Name, strings.Join(found, "; "))
	}
	return nil
}

// PlannedIntakes lets intakes hold as much as the plan of the set has worked out, where
// nobody said how much.
func (s *Plans) PlannedIntakes(ctx context.Context, set *model.ReplicaSet, asked model.NewReplicaSet) error {
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

// Foretold tells when the replicas of a set were to be filled by its plan, as if
// that had begun when the set was made.
func (s *Plans) Foretold(ctx context.Context, set *model.ReplicaSet) error {
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
		r, err := sets.FindReplica(set, f.Replica)
		if err != nil || f.End == nil {
			continue
		}
		at := set.Created.Add(f.End.Sub(*p.Run.Started))
		r.Foretold = &at
	}
	return nil
}
