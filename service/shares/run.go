package shares

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/model"
	"bridgespan/service/access"
	"bridgespan/service/steps"
)

// run completes the plan and, unless it is a rehearsal, does it as a run.
func (j *job) run(ctx context.Context, rehearse bool, action string, before any) (model.SharePlan, error) {
	if err := j.explain(ctx); err != nil {
		return j.plan, j.failure(err)
	}
	j.Action, j.Server, j.Shown = action, j.server.Name, before
	if j.before.Name != "" {
		j.Before = &j.before
	}
	j.plan.Steps = steps.Planned(j.steps())
	if rehearse {
		return j.plan, nil
	}
	if err := forbidden(j.plan.Advice, action); err != nil {
		return j.plan, err
	}
	j.Plan = j.plan
	id, err := j.jobs.Start(ctx, runKind, j.server.Name+"/"+j.Share.Name, j.change)
	if err != nil {
		return j.plan, err
	}
	return j.outcome(ctx, id, j.plan)
}

// forbidden returns the first advice that forbids an action, as an error.
func forbidden(advice []finding.Finding, action string) error {
	i := slices.IndexFunc(advice, func(a finding.Finding) bool { return a.Severity == finding.Fail })
	if i < 0 {
		return nil
	}
	kind := fault.Invalid
	if action == removeShare || action == bucketRemove {
		kind = fault.Needed
	}
	return &fault.Error{Kind: kind, Field: advice[i].Code, Problem: advice[i].Found, Remedy: advice[i].Remedy}
}

// keep records the change and reads the shares again.
func (j *job) keep(ctx context.Context) error {
	defer j.changed()
	var after any
	if j.Action != removeShare {
		after = shown(j.Share, j.Options)
	}
	if err := j.db.Record(ctx, access.Change(ctx, j.Action, j.server.Name+"/"+j.Share.Name, j.Shown, after), "share"); err != nil {
		return err
	}
	_, err := j.estate.ListShares(ctx, j.reach)
	return err
}

// explain puts the permissions in words, and judges what people may do in the end.
func (j *job) explain(ctx context.Context) error {
	share := j.Share.Permissions.Parts()
	words, err := j.rights.Words(ctx, j.at, share, acl.OnShare)
	if err != nil {
		return err
	}
	j.plan.Share = &words
	if j.folder.Owner.IsZero() && j.folder.DACL == nil {
		return nil // not to be seen from here
	}
	folder, err := j.rights.Words(ctx, j.at, j.folder, acl.OnFolder)
	if err != nil {
		return err
	}
	j.plan.Folder = &folder
	var people []account.SID
	for _, sid := range append(j.folder.Accounts(), share.Accounts()...) {
		if !contains(people, sid) {
			people = append(people, sid)
		}
	}
	j.plan.Effective, err = j.rights.Judge(ctx, j.at, acl.Object{Permissions: j.folder, Share: &share}, true, people)
	return err
}

func contains(list []account.SID, s account.SID) bool {
	for _, one := range list {
		if one == s {
			return true
		}
	}
	return false
}

// takenBack says why a step failed, what was done and what was not.
func (j *job) takenBack(list *steps.List, cause error) error {
	failed := slices.IndexFunc(list.States, func(s model.Step) bool { return s.State == model.StepFailed })
	if failed < 0 {
		return j.failure(cause)
	}
	what, state := list.Steps[failed].Text, "nothing was changed"
	var stuck *steps.StuckError
	if errors.As(cause, &stuck) {
		state, j.plan.Unfinished = fmt.Sprintf("done and not taken back: %s (%v)", stuck.Text, stuck.Err), true
	} else if failed > 0 {
		state = "what was done before is taken back"
	}
	switch {
	case errors.Is(cause, fs.ErrExist):
		return (&fault.Error{Kind: fault.Taken, Field: "name", Problem: "a share of this name appeared meanwhile; " + state, Remedy: "choose another name"}).Because(cause)
	case errors.Is(cause, fs.ErrPermission):
		return fault.New(fault.Forbidden, "make "+j.server.Account+" an administrator of the server", "%s does not allow us to %s; %s", j.server.Name, what, state).Because(cause)
	case errors.Is(cause, fs.ErrNotExist), errors.Is(cause, fs.ErrInvalid):
		return fault.Field("path", "check that the folder is there and that the server writes its path so", "%s could not %s: %v; %s", j.server.Name, what, cause, state).Because(cause)
	}
	err := j.failure(cause)
	var e *fault.Error
	if errors.As(err, &e) {
		e.Problem += "; it could not " + what + "; " + state
		return e
	}
	return fmt.Errorf("could not %s: %w; %s", what, err, state)
}
