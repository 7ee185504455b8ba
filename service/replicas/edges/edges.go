// Package edges is about the contents of the edges of cloud sets: what a policy makes stubs of, where the content of a path
// is, and the runs that fill stubs and make them when somebody wants it.
package edges

import (
	"context"
	"time"

	"bridgespan/core/calendar"
	"bridgespan/core/filter"
	"bridgespan/core/offload"
	"bridgespan/model"
	"bridgespan/service/jobs"
	"bridgespan/service/replicas/sets"
	"bridgespan/tree"
)

// Edges are the use cases.
type Edges struct {
	*sets.Base
	probes func(ctx context.Context, set string, most int) ([]model.ReplicaProbe, error)
}

// New makes the use cases. probes lists the latest probes of a set.
func New(base *sets.Base, probes func(ctx context.Context, set string, most int) ([]model.ReplicaProbe, error)) *Edges {
	s := &Edges{base, probes}
	base.Runs.Register(RunKind, jobs.Policy{Role: model.Operator, Pool: jobs.Batch}, s.work)
	base.Runs.Register(AccountsKind, jobs.Policy{Role: model.Operator, Pool: jobs.Batch}, s.findAccounts)
	return s
}

// PolicyOf makes a policy out of that of a replica.
func PolicyOf(p *model.EdgePolicy) offload.Policy {
	if p == nil {
		return offload.Policy{}
	}
	policy := offload.Policy{Free: p.FreePercent, Unused: time.Duration(p.UnusedDays) * 24 * time.Hour, Newest: p.KeepNewest}
	if rules, err := filter.New(filter.Rules{LeaveOut: p.Never}); err == nil && len(p.Never) > 0 {
		policy.Never = func(path string) bool { return rules.File(path, 0, time.Time{}, time.Time{}) != "" }
	}
	return policy
}

// Prefetches reports whether the content of a change to a path is to come at once, at a time.
func Prefetches(p *model.EdgePolicy, path string, at time.Time) bool {
	if p == nil || p.Prefetch == nil {
		return false
	}
	if p.Prefetch.Hours != "" {
		if week, err := calendar.Parse("hours", p.Prefetch.Hours); err != nil || week.At(at) == calendar.Off {
			return false
		}
	}
	rules, err := filter.New(filter.Rules{LeaveOut: p.Prefetch.Folders})
	return err == nil && rules.File(path, 0, time.Time{}, time.Time{}) != ""
}

// LeaveOut says what a set is not about; nil leaves nothing out.
type LeaveOut func(name string, e tree.Entry) bool

// Files calls do with each file of a folder of an edge that belongs to the set. What cannot be listed is left out.
func Files(ctx context.Context, t tree.Tree, folder string, out LeaveOut, do func(offload.File) error) error {
	for e, err := range tree.Files(ctx, t, folder, tree.Bare) {
		if err != nil {
			return err
		}
		if out != nil && out(e.Path, e.Entry) {
			continue
		}
		if err := do(fileOf(e)); err != nil {
			return err
		}
	}
	return nil
}

// fileOf is a file of an edge as a decision is made about it.
func fileOf(e tree.Named) offload.File {
	used := e.Modified
	if e.Accessed.After(used) {
		used = e.Accessed
	}
	return offload.File{Path: e.Path, Size: e.Size, Allocated: e.Allocated, Modified: e.Modified, Used: used, Stub: e.Residency == tree.Stub}
}

// Foreseen is what a policy makes of an edge as it is now.
type Foreseen struct {
	Survey offload.Survey
	Volume offload.Volume
	Goes   offload.Figures // files that become stubs
	Short  int64           // bytes that are lacking to the line then
}

// Foresee tells what a policy would make of an edge now. Nothing is changed.
func (s *Edges) Foresee(ctx context.Context, r *model.Replica, p *model.EdgePolicy) (f Foreseen, err error) {
	t, err := s.Open(ctx, r.Target())
	if err != nil {
		return f, s.Explain(ctx, r.Server, err)
	}
	defer t.Close()
	space, err := t.Space(ctx)
	if err != nil {
		return f, err
	}
	f.Volume = offload.Volume{Total: space.Total, Free: space.Free}
	policy := PolicyOf(p)
	if err := Files(ctx, t, ".", nil, func(file offload.File) error { f.Survey.Add(&policy, file); return nil }); err != nil {
		return f, err
	}
	if !p.HasStubs() {
		return f, nil
	}
	d := f.Survey.Decide(policy, f.Volume, time.Now())
	f.Short = d.Short
	err = Files(ctx, t, ".", nil, func(file offload.File) error {
		if d.Offloads(file) {
			f.Goes.Files, f.Goes.Bytes = f.Goes.Files+1, f.Goes.Bytes+file.Allocated
		}
		return nil
	})
	return f, err
}
