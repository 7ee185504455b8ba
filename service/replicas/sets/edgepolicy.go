package sets

import (
	"context"
	"fmt"
	"strings"

	"bridgespan/core/calendar"
	"bridgespan/core/fault"
	"bridgespan/core/filter"
	"bridgespan/core/finding"
	"bridgespan/model"
	"bridgespan/mover/edge"
)

// CheckSweep returns an error when times are set at which a file server is scanned.
func CheckSweep(field string, r *model.Replica) error {
	if r.SweepMin != 0 && !r.Swept {
		return fault.Field(field, "leave it out", "%s is a file server, which is scanned as often as changes suggest", r.Server)
	}
	return nil
}

// CheckEdges checks the policies of the edges of a set.
func (s *Base) CheckEdges(ctx context.Context, set *model.ReplicaSet, field func(i int, name string) string) error {
	for i := range set.Replicas {
		if err := s.checkEdge(ctx, set, i, func(name string) string { return field(i, name) }); err != nil {
			return err
		}
	}
	return nil
}

func (s *Base) checkEdge(ctx context.Context, set *model.ReplicaSet, i int, field func(name string) string) error {
	r := &set.Replicas[i]
	p := r.Edge
	switch {
	case p == nil:
		return nil
	case i == 0 || !set.IsCloudSet():
		return fault.Field(field("edge"), "choose the layout hub, with the bucket as the first replica", "%s is no edge: the set is not a hub whose first replica is a bucket", r.Name)
	}
	if err := CheckPolicy(p, func(name string) string { return field("edge." + name) }); err != nil {
		return err
	}
	if !p.HasStubs() {
		return nil
	}
	return s.Estate.CheckEdge(ctx, field("edge.fill"), r.Target())
}

// JudgeStubs reports which access fills the stubs of a replica; ok is false without stubs, or while that is unknown.
func (s *Base) JudgeStubs(ctx context.Context, r *model.Replica) (f finding.Finding, ok bool) {
	if !r.Edge.HasStubs() {
		return f, false
	}
	status, err := s.Estate.LookForStubs(ctx, r.Target())
	if err != nil {
		return f, false
	}
	return judgeStubs(r.Name, status.FillsOn)
}

func judgeStubs(subject string, on edge.Trigger) (f finding.Finding, ok bool) {
	switch on {
	case edge.OnRead:
		return finding.New(finding.Pass, "stubs", subject, "A stub is filled as far as programs read it", "", ""), true
	case edge.OnOpen:
		return finding.New(finding.Warn, "stubs", subject, "A stub is filled completely when a program opens it", "programs wait for the whole of a large file", "run Linux 6.14 or later there: it reports reads, too"), true
	}
	return f, false
}

// CheckPolicy checks the policy of an edge; nil keeps everything whole.
func CheckPolicy(p *model.EdgePolicy, field func(name string) string) error {
	switch {
	case p == nil:
		return nil
	case p.FreePercent < 0 || p.FreePercent > 90:
		return fault.Field(field("freePercent"), "use 0 to 90 percent", "%d percent of a volume cannot stay free", p.FreePercent)
	case !p.HasStubs() && (p.FreePercent > 0 || p.UnusedDays > 0):
		return fault.Field(field("fill"), "let names come first, or leave out the free-space line and the days", "files cannot become stubs at an edge that keeps whole files")
	}
	if _, err := filter.New(filter.Rules{LeaveOut: p.Never}); err != nil {
		return fault.At(field("never"), err)
	}
	if f := p.Prefetch; f != nil {
		if !p.HasStubs() {
			return fault.Field(field("prefetch"), "leave it out", "an edge that keeps whole files has all contents already")
		}
		if len(f.Folders) == 0 {
			return fault.Field(field("prefetch"), "name folders, or * for all", "nothing is to be prefetched")
		}
		if _, err := filter.New(filter.Rules{LeaveOut: f.Folders}); err != nil {
			return fault.At(field("prefetch"), err)
		}
		if _, err := calendar.Parse(field("prefetchHours"), f.Hours); f.Hours != "" && err != nil {
			return err
		}
	}
	for _, name := range p.Refused {
		if name == "" || strings.ContainsAny(name, "/ ") {
			return fault.Field(field("refused"), "write the name of a program file, such as nightly-backup", "%q is not the name of a program", name)
		}
	}
	return nil
}

// EdgeField names a field of an edge of a draft.
func EdgeField(i int, name string) string { return fieldOf("edges", i, name) }

// WithoutStubs returns a fault at a field while a replica holds stubs, or may hold some: without the bucket of its set, nobody
// could read them any more.
func WithoutStubs(set *model.ReplicaSet, r *model.Replica, field string) error {
	if !r.Edge.HasStubs() && (r.EdgeFigures == nil || r.EdgeFigures.Stubs == 0) {
		return nil
	}
	return fault.Field(field, fmt.Sprintf("let it keep whole files first, and wait until none is a stub: bspan cloud policy %s %s --fill whole --free 0 --unused 0", set.Name, r.Name),
		"%s may hold stubs, whose content is in the bucket of %s only", r.Name, set.Name)
}

// NoStubs returns a fault at a field while any replica of a set holds stubs, or may hold some.
func NoStubs(set *model.ReplicaSet, field string) error {
	for i := range set.Replicas {
		if err := WithoutStubs(set, &set.Replicas[i], field); err != nil {
			return err
		}
	}
	return nil
}
