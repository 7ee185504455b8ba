package setup

import (
	"context"
	"fmt"
	"strings"

	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/core/plan"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/replicas/sets"
)

// PlanSetup begins to plan the set of a set-up. It changes nothing.
func (s *Setups) PlanSetup(ctx context.Context, name string) (model.ReplicaPlan, error) {
	c, err := s.Setup(ctx, name)
	if err == nil {
		err = passed(&c, model.SetupPlan)
	}
	if err != nil {
		return model.ReplicaPlan{}, err
	}
	return s.plans.Plan(ctx, c.Asked(c.Name))
}

// StartSetup begins to create the set of a set-up, whose checks are made again before. Once it is created, the set-up is removed.
func (s *Setups) StartSetup(ctx context.Context, name string) (model.ReplicaCreation, error) {
	look := s.CheckSetup
	if records.Rehearsing(ctx) {
		look = s.Setup
	}
	c, err := look(ctx, name)
	if err == nil {
		err = passed(&c, model.SetupStart)
	}
	if err != nil {
		return model.ReplicaCreation{}, err
	}
	made, err := s.create(ctx, c.Asked(c.Name))
	if err != nil || records.Rehearsing(ctx) {
		return made, inDraft(err)
	}
	if err := s.DB.StoreSetupStart(ctx, c.Name, made.Run.ID); err != nil {
		return made, err
	}
	return made, s.tell(ctx, c.Name)
}

// EndSetup removes the set-up of a set that was created.
func (s *Setups) EndSetup(ctx context.Context, name string) error {
	if err := s.DB.EndCloudSetup(ctx, name); err != nil {
		return err
	}
	return s.tell(ctx, name)
}

// planned tells how the latest plan of a draft is.
func (s *Setups) planned(ctx context.Context, c *model.CloudSetup, step *model.SetupStep) error {
	w := &checker{Setups: s, setup: c}
	defer func() { step.Checks = append([]finding.Finding{}, w.checks...) }()
	run, err := s.plans.LatestPlan(ctx, c.Asked(c.Name))
	if err != nil {
		return err
	}
	c.Plan = run.ID
	switch {
	case run.ID == 0:
		step.State = model.SetupOpen
		w.todo("plan", "", "These settings were not planned yet", "plan them")
		return nil
	case run.State == model.RunFailed || run.State == model.RunStopped:
		step.State = model.SetupFailed
		w.add(finding.Fail, "plan", "", "The plan did not end: "+orText(run.Trouble, string(run.State)), "", "plan again")
		return nil
	case run.State != model.RunDone:
		step.State = model.SetupOpen
		w.pass("plan", "", "The plan is under way")
		return nil
	}
	p, err := s.plans.Planned(ctx, run.ID)
	if err != nil {
		return err
	}
	for _, f := range p.Checks {
		if f.Severity != finding.Pass {
			w.checks = append(w.checks, f)
		}
	}
	w.quota(p.Costs)
	w.costs(p.Costs)
	if p.Summary != "" {
		w.pass("forecast", "", "%s", p.Summary)
	}
	step.State = model.SetupPassed
	if !p.CanCreate || finding.Worst(w.checks) == finding.Fail {
		step.State = model.SetupFailed
	}
	return nil
}

func orText(text, or string) string {
	if text == "" {
		return or
	}
	return text
}

// costs tells what the provider will charge, where its prices are known.
func (w *checker) costs(c *model.CloudCosts) {
	if c == nil || c.Currency == "" {
		return
	}
	w.pass("costs", "", "Per month: %s for storing %s, and %s for reading %s of changes. First fill: %s", plan.Money(c.Stored, c.Currency), sets.Size(c.StoredBytes), plan.Money(c.Monthly, c.Currency), sets.Size(c.MonthlyBytes), plan.Money(c.Fill, c.Currency))
}

// quota compares what will be stored with what the account may store.
func (w *checker) quota(costs *model.CloudCosts) {
	quota := w.setup.Quota
	switch {
	case costs == nil || quota == 0:
	case costs.StoredBytes > quota:
		w.add(finding.Fail, "quota", "", fmt.Sprintf("The set stores %s, and the account may store %s", sets.Size(costs.StoredBytes), sets.Size(quota)), "uploads fail when the quota is full", "get a larger quota from the provider, or leave files out")
	case costs.StoredBytes > quota/10*9:
		w.add(finding.Warn, "quota", "", fmt.Sprintf("The set stores %s of the %s that the account may store", sets.Size(costs.StoredBytes), sets.Size(quota)), "uploads fail when the quota is full", "get a larger quota from the provider soon")
	default:
		w.pass("quota", "", "The set stores %s of the %s that the account may store", sets.Size(costs.StoredBytes), sets.Size(quota))
	}
}

// started tells how far the creation of the set is.
func (s *Setups) started(ctx context.Context, c *model.CloudSetup, step *model.SetupStep) error {
	step.State = model.SetupOpen
	w := &checker{Setups: s, setup: c}
	defer func() { step.Checks = append([]finding.Finding{}, w.checks...) }()
	if c.Start == 0 {
		w.todo("start", "", "The set can be created now", "start it")
		return nil
	}
	run, err := s.Runs.Get(ctx, c.Start)
	switch {
	case fault.KindOf(err) == fault.NotFound:
		w.todo("start", "", "The set can be created now", "start it")
		return nil
	case err != nil:
		return err
	case run.State == model.RunFailed || run.State == model.RunStopped:
		step.State = model.SetupFailed
		w.add(finding.Fail, "start", "", "The set was not created: "+orText(run.Trouble, string(run.State)), "what was created before the failure was removed again", "correct this and start again")
	default:
		w.pass("start", "", "The set is being created")
	}
	return nil
}

// inDraft blames a field of a set-up for what is wrong with one of a set.
func inDraft(err error) error {
	var f *fault.Error
	if !sets.AsFault(err, &f) || f.Field == "" {
		return err
	}
	return f.At(draftField(f.Field))
}

func draftField(field string) string {
	for of, in := range map[string]string{"replicas[0].server": "account", "replicas[0].share": "bucket", "replicas[0].sub": "folder"} {
		if field == of {
			return in
		}
	}
	var i int
	if n, _ := fmt.Sscanf(field, "replicas[%d].", &i); n == 1 && i > 0 {
		_, name, _ := strings.Cut(field, ".")
		return sets.EdgeField(i-1, strings.Replace(name, "edge.", "policy.", 1))
	}
	return field
}
