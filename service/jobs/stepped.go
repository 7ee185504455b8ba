package jobs

import (
	"context"
	"errors"
	"fmt"
	"time"

	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/service/steps"
)

// Stepped is work of a few steps, whose plan tells all of it: what is to be done, and how far that is.
type Stepped[P any] struct {
	Plan *P
	// Steps is where the plan holds the states of the steps.
	Steps *[]model.Step
	List  *steps.List
	// After is told how the steps ended, and says how the work did; nil leaves that as it is.
	After func(error) error
}

// outcome is what such work keeps as its result.
type outcome[P any] struct {
	Plan  P            `json:"plan"`
	Fault *fault.Error `json:"fault,omitempty"`
}

// Do does the steps as a run that others can follow, and goes on with what an earlier part has done.
func (s Stepped[P]) Do(ctx context.Context, run *Job) error {
	s.List.Keep = func(ctx context.Context, states []model.Step) error {
		*s.Steps = states
		run.Progress(int64(s.List.Done()), 0, float64(s.List.Done())/float64(len(states)))
		return run.Checkpoint(ctx, states, outcome[P]{Plan: *s.Plan})
	}
	if _, err := run.Resumes(&s.List.States); err != nil {
		return err
	}
	err := s.List.Run(ctx)
	if ctx.Err() != nil {
		return ErrStopped
	}
	if s.After != nil {
		err = s.After(err)
	}
	*s.Steps = s.List.States
	found := outcome[P]{Plan: *s.Plan}
	if f := (*fault.Error)(nil); errors.As(err, &f) {
		found.Fault = &fault.Error{Kind: f.Kind, Field: f.Field, Problem: f.Problem, Remedy: f.Remedy}
	}
	return errors.Join(err, run.Finish(found))
}

// AwaitStepped waits for such a run, for most at most, and returns its plan with what came of it: how
// far it is, when it takes longer.
func AwaitStepped[P any](ctx context.Context, s *Service, id int64, most time.Duration, plan P) (P, error) {
	r, err := s.Await(ctx, id, most)
	if err != nil {
		return plan, err
	}
	found := outcome[P]{Plan: plan}
	if _, err := s.Result(ctx, id, &found); err != nil {
		return found.Plan, err
	}
	switch {
	case found.Fault != nil:
		return found.Plan, found.Fault
	case r.State == model.RunFailed || r.State == model.RunStopped:
		return found.Plan, fault.New(fault.Unavailable, fmt.Sprintf("see it with: bspan run show %d", id), "%s", r.Trouble)
	}
	return found.Plan, nil
}
