package shares

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"bridgespan/core/bucket"
	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/model"
	"bridgespan/service/access"
	"bridgespan/service/endpoint"
	"bridgespan/service/estate"
	"bridgespan/tree"
	objects "bridgespan/tree/bucket"
)

// A share of a cloud account is a bucket. It has no permissions of its own, and creating or removing it is one request.

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
}

func (s *Service) openBuckets(ctx context.Context, server, name, step string, rehearse bool) (*bucketJob, error) {
	reach, err := s.estate.Reach(ctx, server)
	if err != nil {
		return nil, err
	}
	j := &bucketJob{Service: s, reach: reach, keeps: endpoint.Buckets(reach.Endpoint)}
	list, err := reach.Shares(ctx)
	if err != nil {
		return nil, errors.Join(estate.Unavailable(reach.Server, err), reach.Close())
	}
	for _, h := range list {
		j.names = append(j.names, h.Name)
	}
	j.plan = model.SharePlan{Server: reach.Server.Name, Name: name, Path: name, Rehearsed: rehearse, Advice: []finding.Finding{}, Effective: []model.EffectiveRights{}, Connected: []string{}, Signposts: []string{},
		Steps: []model.Step{{Text: step, State: model.StepPlanned}}}
	return j, nil
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
	switch given := n.ShareSettings; {
	case n.Path != "":
		return model.SharePlan{}, fault.Field("path", "leave it out", "a bucket has no path")
	case given.Note != nil, given.Access != nil, given.ReadOnly, given.HideUnreadable != nil, given.Encrypt != nil, given.Offline != "":
		return model.SharePlan{}, fault.Field("", "leave out all settings but the name", "a bucket has no comment, permissions or options of a share")
	}
	j, err := s.openBuckets(ctx, server, n.Name, "create the bucket "+n.Name, n.Rehearse)
	if err != nil {
		return model.SharePlan{}, err
	}
	defer j.reach.Close()
	reach := j.reach.Server.Cloud
	j.plan.Steps[0].Text += " in " + reach.Region
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
	return j.do(ctx, createShare, func() error { return j.keeps.CreateBucket(ctx, n.Name) })
}

// removeBucket removes an empty bucket, or tells what that would mean.
func (s *Service) removeBucket(ctx context.Context, server, name string, rehearse bool) (model.SharePlan, error) {
	j, err := s.openBuckets(ctx, server, name, "remove the bucket "+name, rehearse)
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
	return j.do(ctx, removeShare, func() error { return j.keeps.RemoveBucket(ctx, name) })
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

// do changes the bucket, unless it is a rehearsal or advice forbids it, and keeps a record.
func (j *bucketJob) do(ctx context.Context, action string, change func() error) (model.SharePlan, error) {
	if j.plan.Rehearsed {
		return j.plan, nil
	}
	if err := forbidden(j.plan.Advice, action); err != nil {
		return j.plan, err
	}
	switch err := change(); {
	case errors.Is(err, objects.ErrTaken):
		return j.plan, fault.Field("name", "choose another name", "another account has a bucket %s: names are unique in the whole service", j.plan.Name)
	case errors.Is(err, tree.ErrNotEmpty):
		return j.plan, fault.New(fault.Needed, "remove its objects first, with their earlier versions and open uploads", "the bucket %s is not empty", j.plan.Name)
	case err != nil:
		return j.plan, estate.Unavailable(j.reach.Server, err)
	}
	now := time.Now().UTC()
	j.plan.Steps[0].State, j.plan.Steps[0].At = model.StepDone, &now
	defer j.changed()
	var before, after any
	if settings := map[string]any{"bucket": j.plan.Name, "region": j.reach.Server.Cloud.Region}; action == createShare {
		after = settings
	} else {
		before = settings
	}
	if err := j.db.Record(ctx, access.Change(ctx, action, j.reach.Server.Name+"/"+j.plan.Name, before, after), "share"); err != nil {
		return j.plan, err
	}
	_, err := j.estate.ListShares(ctx, j.reach)
	return j.plan, err
}
