package shares

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"bridgespan/core/bucket"
	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/model"
	"bridgespan/service/access"
	"bridgespan/service/endpoint"
	"bridgespan/service/estate"
	"bridgespan/service/jobs"
	"bridgespan/service/steps"
	"bridgespan/smbadmin"
	"bridgespan/tree"
	objects "bridgespan/tree/bucket"
)

// A share of a cloud account is a bucket. It has no permissions of its own, and creating or removing it is one step.

// What is done about a bucket, as the record of changes calls it.
const (
	bucketCreate = "bucket.create"
	bucketRemove = "bucket.remove"
)

// holdsBuckets reports whether the shares of a server are buckets.
func (s *Service) holdsBuckets(ctx context.Context, server string) (bool, error) {
	v, err := s.db.Server(ctx, server)
	return err == nil && v.Can(model.HoldsBuckets), err
}

// bucketJob creates or removes one bucket.
type bucketJob struct {
	*Service
	reach *estate.Reach
	keeps endpoint.BucketKeeper
	names []string // buckets of the account
	plan  model.SharePlan
	change
}

// openBuckets connects to the account of a change, and lists its buckets.
func (s *Service) openBuckets(ctx context.Context, c change) (*bucketJob, error) {
	reach, err := s.estate.Reach(ctx, c.Server)
	if err != nil {
		return nil, err
	}
	j := &bucketJob{Service: s, reach: reach, keeps: endpoint.Buckets(reach.Endpoint), plan: c.Plan, change: c}
	list, err := reach.Shares(ctx)
	if err != nil {
		return nil, errors.Join(estate.Unavailable(reach.Server, err), reach.Close())
	}
	for _, h := range list {
		j.names = append(j.names, h.Name)
	}
	return j, nil
}

// planBucket begins a plan.
func (s *Service) planBucket(ctx context.Context, action, server, name string, rehearse bool) (*bucketJob, error) {
	j, err := s.openBuckets(ctx, change{Action: action, Server: server, Share: smbadmin.Share{Name: name}})
	if err != nil {
		return nil, err
	}
	j.Server = j.reach.Server.Name
	j.plan = model.SharePlan{Server: j.Server, Name: name, Path: name, Rehearsed: rehearse, Advice: []finding.Finding{}, Effective: []model.EffectiveRights{}, Connected: []string{}, Signposts: []string{}, Steps: steps.Planned(j.steps())}
	return j, nil
}

func (j *bucketJob) steps() []steps.Step {
	name, region := j.Share.Name, j.reach.Server.Cloud.Region
	there := func() bool { return slices.Contains(j.names, name) }
	if j.Action == bucketRemove {
		return []steps.Step{{Text: "remove the bucket " + name,
			Do:   func(ctx context.Context) (string, error) { return "", j.keeps.RemoveBucket(ctx, name) },
			Look: func(context.Context) (bool, error) { return !there(), nil }}}
	}
	return []steps.Step{{Text: "create the bucket " + name + " in " + region,
		Do:   func(ctx context.Context) (string, error) { return "", j.keeps.CreateBucket(ctx, name) },
		Undo: func(ctx context.Context) error { return j.keeps.RemoveBucket(ctx, name) },
		Look: func(context.Context) (bool, error) { return there(), nil }}}
}

// advise adds advice, which forbids the change when it is a failure.
func (j *bucketJob) advise(severity finding.Severity, field, found, remedy string) {
	j.plan.Advice = append(j.plan.Advice, finding.New(severity, field, "", found, "", remedy))
}

// createBucket creates a bucket in the region of an account, or tells what would be created.
func (s *Service) createBucket(ctx context.Context, server string, n model.NewShare) (model.SharePlan, error) {
	if err := bucket.CheckName("name", n.Name); err != nil {
		return model.SharePlan{}, err
	}
	if err := shareOnly(n); err != nil {
		return model.SharePlan{}, err
	}
	j, err := s.planBucket(ctx, bucketCreate, server, n.Name, n.Rehearse)
	if err != nil {
		return model.SharePlan{}, err
	}
	defer j.reach.Close()
	reach := j.reach.Server.Cloud
	if !reach.PathStyle && !bucket.HostStyle(n.Name, !reach.Plain) {
		j.advise(finding.Warn, "name", "with a dot in its name, the bucket needs path-style addresses under TLS", "leave the dot out, if other clients are to use it")
	}
	if slices.Contains(j.names, n.Name) {
		j.advise(finding.Fail, "name", fmt.Sprintf("the account already has a bucket %s", n.Name), "use it, or choose another name")
	} else if taken, err := j.keeps.BucketTaken(ctx, n.Name); err != nil {
		return j.plan, estate.Unavailable(j.reach.Server, err)
	} else if taken {
		j.advise(finding.Fail, "name", fmt.Sprintf("another account has a bucket %s: names are unique in the whole service", n.Name), "choose another name")
	}
	return j.start(ctx)
}

// shareOnly returns an error that names the first setting of a share that a bucket does not have.
func shareOnly(n model.NewShare) error {
	for _, setting := range []struct {
		field, word string
		given       bool
	}{
		{"path", "path", n.Path != ""}, {"note", "note", n.Note != nil}, {"access", "share permissions", n.Access != nil}, {"readOnly", "read-only mode", n.ReadOnly},
		{"hideUnreadable", "hidden entries", n.HideUnreadable != nil}, {"encrypt", "encryption setting", n.Encrypt != nil}, {"offline", "offline setting", n.Offline != ""},
	} {
		if setting.given {
			return fault.Field(setting.field, "remove this setting", "a bucket has no %s", setting.word)
		}
	}
	return nil
}

// removeBucket removes an empty bucket, or tells what that would mean.
func (s *Service) removeBucket(ctx context.Context, server, name string, rehearse bool) (model.SharePlan, error) {
	j, err := s.planBucket(ctx, bucketRemove, server, name, rehearse)
	if err != nil {
		return model.SharePlan{}, err
	}
	defer j.reach.Close()
	if !slices.Contains(j.names, name) {
		return j.plan, fault.New(fault.NotFound, "list its buckets with: bspan share list "+j.reach.Server.Name, "%s has no bucket %q", j.reach.Server.Name, name)
	}
	empty, err := j.isEmpty(ctx, name)
	if err != nil {
		return j.plan, estate.Unavailable(j.reach.Server, err)
	}
	if !empty {
		j.advise(finding.Fail, "share", "the bucket "+name+" is not empty", "remove its objects first, with their earlier versions")
	}
	replicas, sets, err := j.db.ReplicasAt(ctx, j.reach.Server.Name, name)
	if err != nil {
		return j.plan, err
	}
	if len(replicas) > 0 {
		j.advise(finding.Fail, "share", "replica sets keep it: "+strings.Join(sets, ", "), "take it out of them first: bspan replica drop SET NAME")
	}
	return j.start(ctx)
}

func (j *bucketJob) isEmpty(ctx context.Context, name string) (bool, error) {
	t, err := j.reach.Tree(ctx, name, "")
	if err != nil {
		return false, err
	}
	defer t.Close()
	for _, err := range t.List(ctx, ".", tree.Versions) {
		return false, err
	}
	return true, ctx.Err()
}

// start does what is planned as a run, unless it is a rehearsal or advice forbids it.
func (j *bucketJob) start(ctx context.Context) (model.SharePlan, error) {
	if j.plan.Rehearsed {
		return j.plan, nil
	}
	if err := forbidden(j.plan.Advice, j.Action); err != nil {
		return j.plan, err
	}
	j.Plan = j.plan
	id, err := j.jobs.Start(ctx, runKind, j.Server+"/"+j.Share.Name, j.change)
	if err != nil {
		return j.plan, err
	}
	return j.outcome(ctx, id, j.plan)
}

// workBucket does what is to be done about a bucket.
func (s *Service) workBucket(ctx context.Context, run *jobs.Job, c change) error {
	j, err := s.openBuckets(ctx, c)
	if err != nil {
		return err
	}
	defer j.reach.Close()
	after := func(err error) error {
		if err == nil {
			return j.keep(ctx)
		}
		return j.failure(err)
	}
	return jobs.Stepped[model.SharePlan]{Plan: &j.plan, Steps: &j.plan.Steps, List: &steps.List{Steps: j.steps()}, After: after}.Do(ctx, run)
}

func (j *bucketJob) failure(err error) error {
	switch {
	case errors.Is(err, objects.ErrTaken):
		return fault.Field("name", "choose another name", "another account has a bucket %s: names are unique in the whole service", j.Share.Name)
	case errors.Is(err, tree.ErrNotEmpty):
		return fault.New(fault.Needed, "remove its objects first, with their earlier versions and open uploads", "the bucket %s is not empty", j.Share.Name)
	}
	return estate.Unavailable(j.reach.Server, err)
}

// keep records the change and lists the buckets again.
func (j *bucketJob) keep(ctx context.Context) error {
	defer j.changed()
	var before, after any = nil, map[string]any{"bucket": j.Share.Name, "region": j.reach.Server.Cloud.Region}
	if j.Action == bucketRemove {
		before, after = after, nil
	}
	if err := j.db.Record(ctx, access.Change(ctx, j.Action, j.Server+"/"+j.Share.Name, before, after), "share"); err != nil {
		return err
	}
	_, err := j.estate.ListShares(ctx, j.reach)
	return err
}
