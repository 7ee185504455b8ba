package setup

import (
	"context"
	"fmt"
	"slices"

	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/model"
	"bridgespan/service/estate"
	"bridgespan/service/replicas/sets"
)

// checker checks the steps of a set-up.
type checker struct {
	*Setups
	setup  *model.CloudSetup
	cloud  model.Server
	reach  *estate.Reach // of the account
	open   bool          // something is still to be entered or done in the step
	checks []finding.Finding
}

func (w *checker) add(severity finding.Severity, code, subject, found, meaning, remedy string, does ...*finding.Action) {
	f := finding.New(severity, code, subject, found, meaning, remedy)
	for _, a := range does {
		f = f.With(a)
	}
	w.checks = append(w.checks, f)
}

func (w *checker) pass(code, subject, format string, args ...any) {
	w.add(finding.Pass, code, subject, fmt.Sprintf(format, args...), "", "")
}

// todo notes what is still to be entered or done.
func (w *checker) todo(code, subject, found, remedy string, does ...*finding.Action) {
	w.open = true
	w.add(finding.Warn, code, subject, found, "", remedy, does...)
}

// fail notes an error as a failed check.
func (w *checker) fail(code, subject string, err error) {
	f := new(fault.Error)
	if !sets.AsFault(err, &f) {
		w.add(finding.Fail, code, subject, sets.Words(err), "", "")
		return
	}
	w.add(finding.Fail, code, subject, f.Problem, "", f.Remedy)
}

// checked are the steps whose checks are stored, with what checks each.
var checked = []struct {
	step  string
	check func(*checker, context.Context)
}{
	{model.SetupAccount, (*checker).account},
	{model.SetupBucket, (*checker).bucket},
	{model.SetupMovers, (*checker).movers},
	{model.SetupSettings, (*checker).settings},
	{model.SetupEdges, (*checker).edges},
	{model.SetupPolicies, (*checker).policies},
	{model.SetupFill, (*checker).fill},
}

// CheckSetup checks the steps of a set-up in their order, up to the first one that is not passed.
func (s *Setups) CheckSetup(ctx context.Context, name string) (model.CloudSetup, error) {
	c, err := s.DB.CloudSetup(ctx, name)
	if err != nil {
		return c, err
	}
	ctx, cancel := context.WithTimeout(ctx, checksLast)
	defer cancel()
	w := &checker{Setups: s, setup: &c}
	defer w.close()
	c.Steps = nil
	for _, step := range checked {
		w.open, w.checks = false, []finding.Finding{}
		step.check(w, ctx)
		if err := ctx.Err(); err != nil {
			return c, fault.New(fault.Unavailable, "check again; the servers of the set-up answer slowly", "the checks did not end within %s", checksLast)
		}
		state := model.SetupPassed
		switch {
		case finding.Worst(w.checks) == finding.Fail:
			state = model.SetupFailed
		case w.open:
			state = model.SetupOpen
		}
		c.Steps = append(c.Steps, model.SetupStep{Step: step.step, State: state, Checks: w.checks})
		if state != model.SetupPassed {
			break
		}
	}
	now := sets.Now()
	c.Checked = &now
	if err := s.DB.StoreSetupChecks(ctx, c); err != nil {
		return c, err
	}
	if err := s.tell(ctx, c.Name); err != nil {
		return c, err
	}
	return s.Setup(ctx, name)
}

func (w *checker) close() {
	if w.reach != nil {
		_ = w.reach.Close()
	}
}

// complete adds the steps that no check was stored of: locked ones, the plan and the start.
func (s *Setups) complete(ctx context.Context, c *model.CloudSetup) error {
	if len(c.Steps) == 0 {
		c.Steps = []model.SetupStep{{Step: model.SetupAccount, State: model.SetupOpen, Checks: []finding.Finding{finding.New(finding.Warn, "check", "", "The settings were not checked since they were changed", "", "check them")}}}
	}
	passed := !slices.ContainsFunc(c.Steps, func(step model.SetupStep) bool { return step.State != model.SetupPassed })
	for _, name := range model.SetupSteps[len(c.Steps):] {
		step := model.SetupStep{Step: name, State: model.SetupLocked, Checks: []finding.Finding{}}
		var err error
		switch {
		case !passed:
		case name == model.SetupPlan:
			err = s.planned(ctx, c, &step)
		case name == model.SetupStart:
			err = s.started(ctx, c, &step)
		}
		if err != nil {
			return err
		}
		passed = passed && step.State == model.SetupPassed
		c.Steps = append(c.Steps, step)
	}
	for _, step := range c.Steps {
		if step.State != model.SetupPassed {
			c.Next = step.Step
			break
		}
	}
	return nil
}

// passed returns a fault unless all steps before one are passed.
func passed(c *model.CloudSetup, before string) error {
	for _, step := range c.Steps {
		if step.Step == before {
			return nil
		}
		if step.State != model.SetupPassed {
			return fault.New(fault.Needed, "complete that step and check again", "the step %q of the set-up of %s is %s", step.Step, c.Name, step.State)
		}
	}
	return nil
}
