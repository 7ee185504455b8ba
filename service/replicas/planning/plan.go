// Package planning plans replica sets: it walks through the places, checks what stands in the
// way, and foretells the first fill and the weeks after it.
package planning

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"bridgespan/core/filter"
	"bridgespan/core/finding"
	"bridgespan/core/plan"
	"bridgespan/core/replica"
	"bridgespan/model"
	"bridgespan/mover/compare"
	"bridgespan/mover/replication"
	"bridgespan/service/estate"
	"bridgespan/service/jobs"
	"bridgespan/service/preflight"
	"bridgespan/service/replicas/sets"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// Plans is the use case.
type Plans struct {
	*sets.Base
	stepsOf func(ctx context.Context, asked model.NewReplicaSet) []PlannedStep
}

// PlannedStep is a step of making a set.
type PlannedStep struct {
	Text     string
	FolderOf string // the replica whose folder it makes, when it is missing
}

// planKind is the kind of runs that plan a set.
const planKind = "plan"

// Plan begins to find out what will come of a set. It changes nothing.
func (s *Plans) Plan(ctx context.Context, n model.NewReplicaSet) (model.ReplicaPlan, error) {
	if _, err := s.Draft(ctx, n); err != nil {
		return model.ReplicaPlan{}, err
	}
	run, err := s.Runs.Start(ctx, planKind, n.Name, n)
	if err != nil {
		return model.ReplicaPlan{}, err
	}
	return s.Planned(ctx, run)
}

// Planned shows a plan as far as it is.
func (s *Plans) Planned(ctx context.Context, id int64) (model.ReplicaPlan, error) {
	p := model.ReplicaPlan{Checks: []finding.Finding{}, Places: []model.PlanPlace{}, Layouts: []model.PlanLayout{}, Steps: []string{}}
	var asked model.NewReplicaSet
	r, err := s.Runs.Read(ctx, id, planKind, &asked, &p)
	if err != nil {
		return p, err
	}
	for i := range p.Layouts {
		p.Layouts[i].Legs = append([]model.PlanLeg{}, p.Layouts[i].Legs...) // plans of earlier versions have none
	}
	p.Run, p.Asked = r, asked
	return p, nil
}

// planner makes one plan.
type planner struct {
	*Plans
	job    *jobs.Job
	asked  model.NewReplicaSet
	set    model.ReplicaSet
	filter *filter.Filter
	sites  []*planSite
	lines  []finding.Finding
	at     time.Time
	seen   int64 // files and folders
	bytes  int64
	behind float64 // share of the walks that are done
}

// planSite is a replica that is planned, with what was found there.
type planSite struct {
	replica  model.Replica
	server   model.Server
	reach    *estate.Reach
	tree     tree.Tree // nil when its folder is missing
	space    tree.Space
	place    plan.Place
	accounts sets.AccountUses
	spelled  examples        // that the seed spells otherwise
	clashes  examples        // that differ from others there in their case alone
	unread   examples        // that cannot be read or listed
	why      error           // of the first of these
	refused  examples        // of the seed that it refuses
	refusal  error           // of the first of these
	open     finding.Finding // files that people change now
	opened   bool            // whether there are any
}

// work makes a plan.
func (s *Plans) work(ctx context.Context, job *jobs.Job) error {
	p := &planner{Plans: s, job: job, at: sets.Now()}
	if err := job.Settings(&p.asked); err != nil {
		return err
	}
	var err error
	if p.set, err = s.Draft(ctx, p.asked); err != nil {
		return err
	}
	if p.filter, err = filter.New(p.set.Filter); err != nil {
		return err
	}
	defer p.close()
	if err := p.reach(ctx); err != nil {
		return err
	}
	if err := p.walk(ctx); err != nil {
		if ctx.Err() != nil {
			return jobs.ErrStopped
		}
		return err
	}
	p.judge(ctx)
	return job.Finish(p.result(ctx))
}

func (p *planner) close() {
	for _, s := range p.sites {
		if s.tree != nil {
			_ = s.tree.Close()
		}
		if s.reach != nil {
			_ = s.reach.Close()
		}
	}
}

func (p *planner) add(code string, severity finding.Severity, found, meaning, remedy string, does ...*finding.Action) {
	f := finding.New(severity, code, "", found, meaning, remedy)
	for _, a := range does {
		f = f.With(a)
	}
	p.lines = append(p.lines, f)
}

// note adds a finding if there is one.
func (p *planner) note(f finding.Finding, ok bool) {
	if ok {
		p.lines = append(p.lines, f)
	}
}

// preflight is the place as checks see it.
func (s *planSite) preflight() preflight.Place {
	return preflight.Place{Name: s.replica.Name, Target: s.replica.Target(), Server: s.server, Reach: s.reach}
}

// reach opens all places.
func (p *planner) reach(ctx context.Context) error {
	for i := range p.set.Replicas {
		s := &planSite{replica: p.set.Replicas[i]}
		s.place = plan.Place{ID: replica.ID(i), Seed: s.replica.Seed}
		p.sites = append(p.sites, s)
		if err := p.open(ctx, s); err != nil {
			return fmt.Errorf("%s: %w", s.replica.Name, err)
		}
	}
	return nil
}

// open opens a place, when its folder is there, and looks at what is around it.
func (p *planner) open(ctx context.Context, s *planSite) error {
	var err error
	if s.reach, err = p.Estate.Reach(ctx, s.replica.Server); err != nil {
		return err
	}
	s.server = s.reach.Server
	top, err := s.reach.Tree(ctx, s.replica.Share, "")
	if err != nil {
		return p.Explain(ctx, s.replica.Server, err)
	}
	defer top.Close()
	if s.space, err = top.Space(ctx); err != nil {
		return p.Explain(ctx, s.replica.Server, err)
	}
	missing, err := sets.MissingFolders(ctx, top, sets.OrText(s.replica.Sub, "."))
	if err != nil {
		return p.Explain(ctx, s.replica.Server, err)
	}
	above := s.replica.Sub
	if len(missing) > 0 {
		above = path.Dir(missing[0])
	}
	at := s.preflight()
	p.lines = append(p.lines, preflight.Write(ctx, at, top, sets.OrText(above, ".")))
	if p.set.Permissions != model.PermissionsLeave {
		p.note(preflight.Remove(ctx, p.People, at, top, sets.OrText(above, ".")))
	}
	p.lines = append(p.lines, preflight.Clock(ctx, at))
	s.open, s.opened = preflight.OpenFiles(ctx, at)
	if len(missing) == 0 {
		if s.tree, err = s.reach.Tree(ctx, s.replica.Share, s.replica.Sub); err != nil {
			return p.Explain(ctx, s.replica.Server, err)
		}
		p.marked(ctx, s)
	}
	return nil
}

// marked looks for the mark of another set, of this service or another one.
func (p *planner) marked(ctx context.Context, s *planSite) {
	if text, err := tree.ReadFile(ctx, s.tree, replication.MarkFile); err == nil {
		p.add("other sets", finding.Fail, fmt.Sprintf("%s: the folder is marked %q", s.replica.Name, strings.TrimSpace(string(text))), "somebody may keep it the same with others already", "when there is no such set any more, remove "+replication.MarkFile+" there")
	}
}

// examples are paths of which there may be many.
type examples struct {
	first string
	n     int64
}

func (e *examples) add(path string) {
	if e.n++; e.n == 1 {
		e.first = path
	}
}

// walk looks at what all places hold, each beside the seed.
func (p *planner) walk(ctx context.Context) error {
	var seed *planSite
	var others []*planSite
	for _, s := range p.sites {
		if s.place.Seed {
			seed = s
		} else {
			others = append(others, s)
		}
	}
	for i, other := range others {
		if err := p.pair(ctx, seed, other, i == 0, len(others)); err != nil {
			return err
		}
		p.behind = float64(i+1) / float64(len(others))
	}
	return nil
}

// pair walks through the seed and another place, side by side. first is true
// when the seed was not counted yet.
func (p *planner) pair(ctx context.Context, seed, other *planSite, first bool, of int) error {
	// Replicas take names that differ in their case alone for one.
	w := &compare.Walk{First: p.side(seed), Second: p.side(other), Detail: tree.WithDescriptors, Folded: true}
	for pair, err := range w.Pairs(ctx) {
		var at *compare.SideError
		if errors.As(err, &at) {
			return fmt.Errorf("%s: %w", at.Name, p.Explain(ctx, []*planSite{seed, other}[at.Side].replica.Server, at.Err))
		}
		if err != nil {
			return err
		}
		if pair.First != nil {
			other.mayHave(pair.First)
			if first {
				p.count(seed, pair.First)
			}
		}
		if pair.Second != nil {
			p.count(other, pair.Second)
		}
		judge(other, pair.First, pair.Second)
		p.job.Progress(p.seen, p.bytes, p.behind+w.Seen()/float64(of))
	}
	for i, s := range []*planSite{seed, other} {
		// Each waits for the slower of both: the shortest of its walks tells most.
		if took := w.Took(i); s.tree != nil && (s.place.Look == 0 || took < s.place.Look) {
			s.place.Look = took
		}
	}
	return nil
}

// side is a place as one of those that are walked through, as far as the set is about it. It
// notes names that clash, and what cannot be read.
func (p *planner) side(s *planSite) compare.Side {
	s.clashes, s.unread = examples{}, examples{}
	var last []string // the key last met, by depth
	return compare.Side{Name: s.replica.Name, Tree: s.tree, Keep: func(e tree.Named) bool {
		if e.Path == "." || sets.LeftOut(p.filter, e) {
			return false
		}
		if e.Unread != nil {
			if s.unread.add(e.Path); s.why == nil {
				s.why = e.Unread
			}
		}
		key := tree.Key(e.Path, false)
		depth := strings.Count(key, "/")
		if depth < len(last) && last[depth] == key {
			s.clashes.add(e.Path)
		}
		last = append(last[:min(depth, len(last))], key)
		return true
	}}
}

func (p *planner) count(s *planSite, m *tree.Named) {
	size := m.Size
	if m.Kind == tree.Folder {
		size = -1
	}
	s.place.Content.Add(m.Path, size, m.Modified, p.at)
	p.seen++
	p.bytes += max(size, 0)
	s.accounts.Add(m.Descriptor, m.Path)
}

// mayHave notes when what the seed holds cannot have its name at a place.
func (s *planSite) mayHave(seed *tree.Named) {
	err := smb.CheckElement(seed.Name)
	if !s.server.Can(model.SpeaksSMB) {
		err = nil
		if most := 255; len(seed.Name) > most { // of the file systems of such hosts
			err = fmt.Errorf("longer than %d bytes", most)
		}
	}
	if err == nil {
		return
	}
	if s.refused.add(seed.Path); s.refusal == nil {
		s.refusal = err
	}
}

// judge compares what a place holds at a path with what the seed does.
func judge(s *planSite, seed, here *tree.Named) {
	switch {
	case here == nil && seed.Kind == tree.File:
		s.place.Missing.Add(seed.Size)
	case here == nil:
	case seed == nil:
		if here.Kind == tree.File {
			s.place.Extra.Add(here.Size)
		}
	default:
		if seed.Name != here.Name {
			s.spelled.add(here.Path)
		}
		switch {
		case seed.Kind != tree.File && here.Kind == tree.File:
			s.place.Extra.Add(here.Size)
		case seed.Kind == tree.File && here.Kind != tree.File:
			s.place.Missing.Add(seed.Size)
		case seed.Kind != tree.File:
		case seed.Size == here.Size && seed.Modified.Sub(here.Modified).Abs() <= replica.TimeTolerance:
			s.place.Equal.Add(seed.Size)
		default:
			s.place.Differ.Add(seed.Size)
		}
	}
}

// New makes the plans of sets. stepsOf tells what making a set does.
func New(base *sets.Base, stepsOf func(ctx context.Context, asked model.NewReplicaSet) []PlannedStep) *Plans {
	s := &Plans{Base: base, stepsOf: stepsOf}
	s.Runs.Register(planKind, jobs.Policy{Role: model.Operator, Pool: jobs.Batch}, s.work)
	return s
}
