package shares

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/service/access"
	"bridgespan/service/estate"
)

// run completes the plan and, unless it is a rehearsal, does its steps. When
// one fails, those before it are taken back, last first.
func (j *job) run(ctx context.Context, rehearse bool, action string, before any) (model.SharePlan, error) {
	if err := j.explain(ctx); err != nil {
		return j.plan, j.failure(err)
	}
	for _, s := range j.steps {
		j.plan.Steps = append(j.plan.Steps, model.Step{Text: s.text, State: "planned"})
	}
	if rehearse {
		return j.plan, nil
	}
	for _, a := range j.plan.Advice {
		if a.Weight == model.Fail {
			kind := fault.Invalid
			if action == "share.remove" {
				kind = fault.Needed
			}
			return j.plan, &fault.Error{Kind: kind, Field: a.Field, Problem: a.Text, Remedy: a.Remedy}
		}
	}
	for i, s := range j.steps {
		if err := s.do(ctx); err != nil {
			return j.plan, j.takeBack(ctx, i, err)
		}
		j.plan.Steps[i].State = "done"
	}
	return j.plan, j.keep(ctx, action, before)
}

// keep records the change and reads the shares again.
func (j *job) keep(ctx context.Context, action string, before any) error {
	defer j.changed()
	var after any
	if action != "share.remove" {
		after = shown(j.share, j.options)
	}
	if err := j.db.Record(ctx, access.Change(ctx, action, j.server.Name+"/"+j.share.Name, before, after), "share"); err != nil {
		return err
	}
	_, err := j.estate.ListShares(ctx, &estate.Reach{Server: j.server, SMB: j.session})
	return err
}

// explain puts the permissions in words, and judges what people may do in the end.
func (j *job) explain(ctx context.Context) error {
	share := j.share.Permissions.Parts()
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

// takeBack undoes the steps before the one that failed, and says what was done
// and what was not.
func (j *job) takeBack(ctx context.Context, failed int, cause error) error {
	j.plan.Steps[failed].State, j.plan.Steps[failed].Trouble = "failed", cause.Error()
	// Whoever waits may be gone; what was begun is still put right.
	ctx = context.WithoutCancel(ctx)
	state := "nothing was changed"
	for i := failed - 1; i >= 0; i-- {
		if err := j.steps[i].undo(ctx); err != nil {
			j.plan.Steps[i].Trouble, j.plan.Unfinished = err.Error(), true
			state = fmt.Sprintf("done and not taken back: %s (%v)", j.steps[i].text, err)
			break
		}
		j.plan.Steps[i].State = "undone"
		state = "what was done before is taken back"
	}
	what := j.steps[failed].text
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
