package shares

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/service/access"
	"bridgespan/service/jobs"
	"bridgespan/service/steps"
	"bridgespan/smbadmin"
	"bridgespan/tree"
)

// runKind is the kind of runs that make, change or end shares.
const runKind = "share"

// What is done about a share, as the record of changes calls it.
const (
	createShare = "share.create"
	editShare   = "share.edit"
	removeShare = "share.remove"
)

// change is what is done about a share: all that another process needs to go on with it.
type change struct {
	Action       string           `json:"action"`
	Server       string           `json:"server"`
	Share        smbadmin.Share   `json:"share"`            // as it will be
	Before       *smbadmin.Share  `json:"before,omitempty"` // as it is, when there is one
	Options, Was smbadmin.Options // as they will be, and are
	// Folders are missing below the share Over, and are made first.
	Over     string          `json:"over,omitempty"`
	Folders  []string        `json:"folders,omitempty"`
	Detached []string        `json:"detached,omitempty"` // signposts that lose their locations in the share
	Shown    any             `json:"shown,omitempty"`    // Before, for the record of changes
	Plan     model.SharePlan `json:"plan"`
}

// steps are what is done, one after the other.
func (j *job) steps() (list []steps.Step) {
	for _, name := range j.Folders {
		list = append(list, j.folderStep(name))
	}
	switch j.Action {
	case createShare:
		list = append(list, steps.Step{Text: fmt.Sprintf("create the share %s of %s", j.Share.Name, j.Share.Path),
			Do:   func(ctx context.Context) (string, error) { return "", j.admin.CreateShare(ctx, j.Share) },
			Undo: func(ctx context.Context) error { return j.admin.RemoveShare(ctx, j.Share.Name) },
			Look: func(context.Context) (bool, error) { return j.there() != nil && j.there().Path == j.Share.Path, nil }})
	case editShare:
		if j.Share != *j.Before {
			list = append(list, steps.Step{Text: "set note and permissions of the share " + j.Share.Name,
				Do:   func(ctx context.Context) (string, error) { return "", j.admin.EditShare(ctx, j.Share) },
				Undo: func(ctx context.Context) error { return j.admin.EditShare(ctx, *j.Before) }})
		}
	case removeShare:
		list = append(list, steps.Step{Text: "end the share " + j.Share.Name + "; the files in " + j.Share.Path + " stay",
			Do:   func(ctx context.Context) (string, error) { return "", j.admin.RemoveShare(ctx, j.Share.Name) },
			Look: func(context.Context) (bool, error) { return j.there() == nil, nil }})
	}
	if j.Options != j.Was && j.Action != removeShare {
		list = append(list, steps.Step{Text: "set its options: " + optionWords(j.Options),
			Do: func(ctx context.Context) (string, error) {
				return "", j.admin.SetShareOptions(ctx, j.Share.Name, j.Options)
			},
			Undo: func(ctx context.Context) error { return j.admin.SetShareOptions(ctx, j.Share.Name, j.Was) }})
	}
	if len(j.Detached) > 0 {
		list = append(list, steps.Step{Text: "remove its locations from " + strings.Join(j.Detached, ", "),
			Do: func(ctx context.Context) (string, error) { return "", j.detach(ctx) }})
	}
	return list
}

func (j *job) folderStep(name string) steps.Step {
	return steps.Step{Text: "make the folder " + j.Over + "/" + name,
		Do: func(ctx context.Context) (string, error) {
			return "", j.inShare(ctx, j.Over, func(t tree.Tree) error { return t.Mkdir(ctx, name) })
		},
		Undo: func(ctx context.Context) error {
			return j.inShare(ctx, j.Over, func(t tree.Tree) error { return t.Remove(ctx, name) })
		},
		Look: func(ctx context.Context) (made bool, err error) {
			err = j.inShare(ctx, j.Over, func(t tree.Tree) error { _, err := t.Stat(ctx, name); return err })
			if errors.Is(err, fs.ErrNotExist) {
				return false, nil
			}
			return err == nil, err
		}}
}

// there is the share as the server has it; nil when it has none.
func (j *job) there() *smbadmin.Share {
	i := slices.IndexFunc(j.shares, func(h smbadmin.Share) bool { return namespace.Key(h.Name) == namespace.Key(j.Share.Name) })
	if i < 0 {
		return nil
	}
	return &j.shares[i]
}

func (j *job) inShare(ctx context.Context, share string, do func(t tree.Tree) error) error {
	t, err := j.reach.Tree(ctx, share, "")
	if err != nil {
		return err
	}
	defer t.Close()
	return do(t)
}

// work does what is to be done about a share.
func (s *Service) work(ctx context.Context, run *jobs.Job) error {
	var c change
	if err := run.Settings(&c); err != nil {
		return err
	}
	ctx = access.WithActor(ctx, model.User{Name: run.Who, Role: model.Administrator}) // the role was asked for when the run was started
	if c.Action == bucketCreate || c.Action == bucketRemove {
		return s.workBucket(ctx, run, c)
	}
	j, err := s.open(ctx, c.Server)
	if err != nil {
		return err
	}
	defer j.close()
	j.change, j.plan = c, c.Plan
	list := &steps.List{Steps: j.steps()}
	after := func(err error) error {
		if err == nil {
			return j.keep(ctx)
		}
		return j.takenBack(list, err)
	}
	return jobs.Stepped[model.SharePlan]{Plan: &j.plan, Steps: &j.plan.Steps, List: list, After: after}.Do(ctx, run)
}

// answerWithin is how long a change may take for its answer to hold the result.
const answerWithin = 30 * time.Second

// outcome waits for a run, and returns what came of it.
func (s *Service) outcome(ctx context.Context, id int64, plan model.SharePlan) (model.SharePlan, error) {
	plan, err := jobs.AwaitStepped(ctx, s.jobs, id, answerWithin, plan)
	plan.Run = id
	return plan, err
}
