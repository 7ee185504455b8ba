package fronts

import (
	"context"
	"errors"
	"fmt"
	"time"

	"bridgespan/core/fault"
	"bridgespan/model"
	moverfront "bridgespan/mover/front"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/jobs"
	"bridgespan/service/steps"
)

// runKind is the kind of runs that make and remove fronts.
const runKind = "front"

// What is done about a front, as the record of changes calls it.
const (
	addFront    = "front.add"
	removeFront = "front.remove"
)

// change is what is done about a front: all that another process needs to go on with it.
type change struct {
	Action  string          `json:"action"`
	Forget  bool            `json:"forget,omitempty"` // remove it from Bridge Span only
	Front   model.Front     `json:"front"`
	Folder  string          `json:"folder,omitempty"`
	Entries int             `json:"entries"`
	Plan    model.FrontPlan `json:"plan"`
}

func (s *Service) start(ctx context.Context, c change) (model.FrontPlan, error) {
	id, err := s.jobs.Start(ctx, runKind, name(c.Front), c)
	if err != nil {
		return c.Plan, err
	}
	return s.outcome(ctx, id, c)
}

// steps are what is done, one after the other.
func (s *Service) steps(c *change) []steps.Step {
	switch {
	case c.Forget:
		return []steps.Step{s.leaveStep(c), s.forgetStep(c)}
	case c.Action == removeFront:
		return []steps.Step{s.withdrawStep(c), s.leaveStep(c), s.clearStep(c), s.forgetStep(c)}
	}
	return []steps.Step{
		{Text: "make the folder " + c.Folder, Partly: true,
			Do: func(ctx context.Context) (string, error) {
				return "", s.at(ctx, c.Front, func(at moverfront.Client) error { return at.Make(ctx) })
			},
			Undo: func(ctx context.Context) error { return s.clear(ctx, c) }},
		{Text: "offer it as the share " + c.Front.UNC(), Partly: true,
			Do: func(ctx context.Context) (string, error) {
				return "", s.at(ctx, c.Front, func(at moverfront.Client) error { return at.Offer(ctx, c.Front.Comment) })
			},
			Undo: func(ctx context.Context) error {
				return s.at(ctx, c.Front, func(at moverfront.Client) error { return at.Withdraw(ctx) })
			}},
		{Text: fmt.Sprintf("record that %s shows /%s", name(c.Front), c.Front.Namespace),
			Do: func(ctx context.Context) (string, error) { return "", s.writeDown(ctx, c) },
			Undo: func(ctx context.Context) error {
				if err := s.leave(ctx, c); err != nil {
					return err
				}
				return s.forget(ctx, c)
			},
			Look: func(ctx context.Context) (bool, error) {
				_, err := s.db.Front(ctx, c.Front.Server, c.Front.Share)
				if fault.KindOf(err) == fault.NotFound {
					return false, nil
				}
				return err == nil, err
			}},
		{Text: fmt.Sprintf("write its %d folders and links", c.Entries),
			Do: func(ctx context.Context) (string, error) { return s.awaitFirst(ctx, c) }},
	}
}

func (s *Service) withdrawStep(c *change) steps.Step {
	return steps.Step{Text: "stop offering the share " + c.Front.UNC(),
		Do: func(ctx context.Context) (string, error) {
			return "", s.at(ctx, c.Front, func(at moverfront.Client) error { return at.Withdraw(ctx) })
		},
		Undo: func(ctx context.Context) error {
			return s.at(ctx, c.Front, func(at moverfront.Client) error { return at.Offer(ctx, c.Front.Comment) })
		}}
}

// leaveStep comes before clearStep: the instance that keeps the front would write it again.
func (s *Service) leaveStep(c *change) steps.Step {
	return steps.Step{Text: "stop writing " + name(c.Front),
		Do: func(ctx context.Context) (string, error) { return "", s.leave(ctx, c) },
		Undo: func(ctx context.Context) error {
			_, err := s.setLeaving(ctx, c, false)
			return err
		}}
}

func (s *Service) clearStep(c *change) steps.Step {
	return steps.Step{Text: fmt.Sprintf("remove its %d folders and links; the files that they lead to stay", c.Front.Folders+c.Front.Links),
		Do: func(ctx context.Context) (string, error) { return "", s.clear(ctx, c) }}
}

func (s *Service) forgetStep(c *change) steps.Step {
	return steps.Step{Text: "remove the front " + name(c.Front) + " from Bridge Span",
		Do: func(ctx context.Context) (string, error) { return "", s.forget(ctx, c) }}
}

// leave asks the instance that keeps a front to stop, and waits until it has.
func (s *Service) leave(ctx context.Context, c *change) error {
	f, err := s.setLeaving(ctx, c, true)
	if err != nil || f == nil {
		return err
	}
	return s.awaitLetGo(ctx, *f)
}

// setLeaving marks a front as leaving, or takes the mark back. It returns nil when the front is removed already.
func (s *Service) setLeaving(ctx context.Context, c *change, leaving bool) (*model.Front, error) {
	f, err := s.db.Front(ctx, c.Front.Server, c.Front.Share)
	if fault.KindOf(err) == fault.NotFound {
		return nil, nil
	}
	if err == nil {
		err = s.db.Change(ctx, func(tx *records.Tx) error { return tx.LeaveFront(ctx, f.ID, leaving) })
	}
	s.Kick()
	s.changed()
	return &f, err
}

func (s *Service) clear(ctx context.Context, c *change) error {
	return s.at(ctx, c.Front, func(at moverfront.Client) error {
		failed, err := at.Clear(ctx)
		if err == nil && len(failed) > 0 {
			err = fmt.Errorf("%s: %s", failed[0].Path, failed[0].Trouble)
		}
		return err
	})
}

func (s *Service) writeDown(ctx context.Context, c *change) error {
	err := s.db.Change(ctx, func(tx *records.Tx) error {
		if err := tx.AddFront(ctx, c.Front); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, addFront, name(c.Front), nil, shown(c.Front)), topic)
	})
	s.Kick()
	s.changed()
	return err
}

func (s *Service) forget(ctx context.Context, c *change) error {
	f, err := s.db.Front(ctx, c.Front.Server, c.Front.Share)
	if fault.KindOf(err) == fault.NotFound {
		return nil
	}
	if err != nil {
		return err
	}
	err = s.db.Change(ctx, func(tx *records.Tx) error {
		if err := tx.RemoveFront(ctx, f.ID); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, removeFront, name(f), shown(f), nil), topic)
	})
	s.Kick()
	s.changed()
	return err
}

// firstMost is how long a run waits for the first writing. It goes on by itself afterwards.
const firstMost = 10 * time.Minute

// awaitFirst waits until whoever keeps the front has written it.
func (s *Service) awaitFirst(ctx context.Context, c *change) (string, error) {
	s.Kick()
	deadline := time.After(firstMost)
	tick := time.NewTicker(100 * time.Millisecond) // another instance may keep it
	defer tick.Stop()
	for {
		f, err := s.db.Front(ctx, c.Front.Server, c.Front.Share)
		switch {
		case err != nil:
			return "", err
		case f.State == model.FrontCurrent:
			return fmt.Sprintf("%d folders, %d links", f.Folders, f.Links), nil
		case f.State == model.FrontFailing:
			return "", errors.New(f.Trouble)
		}
		select {
		case <-ctx.Done():
			return "", ctx.Err()
		case <-deadline:
			return "", steps.Awaited{Found: "being written"}
		case <-tick.C:
		}
	}
}

// work does what is to be done about a front.
func (s *Service) work(ctx context.Context, run *jobs.Job) error {
	var c change
	if err := run.Settings(&c); err != nil {
		return err
	}
	ctx = access.WithActor(ctx, model.User{Name: run.Who, Role: model.Administrator}) // the role was asked for when the run was started
	after := func(err error) error {
		if err == nil {
			return nil
		}
		told := fault.New(fault.Unavailable, fmt.Sprintf("see the steps with: bspan run show %d", run.ID), "%s: %v. All steps were undone", name(c.Front), err)
		var f *fault.Error
		if errors.As(err, &f) {
			told.Remedy = f.Remedy
		}
		return told.Because(err)
	}
	return jobs.Stepped[model.FrontPlan]{Plan: &c.Plan, Steps: &c.Plan.Steps, List: &steps.List{Steps: s.steps(&c)}, After: after}.Do(ctx, run)
}

// answerWithin is how long a change may take for its answer to hold the result.
const answerWithin = 45 * time.Second

// outcome waits for a run, and returns what came of it.
func (s *Service) outcome(ctx context.Context, id int64, c change) (model.FrontPlan, error) {
	p, err := jobs.AwaitStepped(ctx, s.jobs, id, answerWithin, c.Plan)
	p.Run = id
	if f, getErr := s.db.Front(ctx, c.Front.Server, c.Front.Share); getErr == nil {
		p.Front = f
	}
	return p, err
}
