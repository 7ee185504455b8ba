package rights

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/estate"
	"bridgespan/service/jobs"
	"bridgespan/service/steps"
	"bridgespan/tree"
)

// progress of a change: the plan is made first, whole, and kept; then it is done.
type progress struct {
	Planned bool  `json:"planned"`
	Looked  int64 `json:"looked"`
	Objects int64 `json:"objects"`
}

// work plans a change of permissions, does it, or takes one back.
func (s *Service) work(ctx context.Context, job *jobs.Job) error {
	var work settings
	if err := job.Settings(&work); err != nil {
		return err
	}
	l, err := s.lookAt(ctx, "path", subject(work.Place))
	if err != nil {
		return err
	}
	defer l.close()
	return s.workAt(ctx, job, l, work)
}

// workAt works on a place that is open.
func (s *Service) workAt(ctx context.Context, job *jobs.Job, l *look, work settings) error {
	if work.Undo != 0 {
		defer s.tellChanged(ctx, l)
		return s.undo(ctx, job, l, work.Undo)
	}
	var p progress
	if _, err := job.Resumes(&p); err != nil {
		return err
	}
	if !p.Planned {
		plan := &planner{s: s, job: job, look: l, work: work, ids: records.DescriptorIDs{}}
		if err := plan.make(ctx); err != nil {
			return interrupted(l, err, "nothing was changed yet")
		}
		p = progress{true, plan.looked, plan.objects}
		if err := job.Checkpoint(ctx, p, nil); err != nil {
			return err
		}
	}
	if work.Asked.Rehearse {
		return nil
	}
	defer s.tellChanged(ctx, l)
	return s.carryOut(ctx, job, l, p)
}

// tellChanged tells that permissions are others at a place, or may be.
func (s *Service) tellChanged(ctx context.Context, l *look) {
	if err := s.db.Tell(context.WithoutCancel(ctx), "rights", subject(l.Place), time.Now().UTC()); err == nil {
		s.changed()
	}
}

// interrupted says what was done and what was not when a server goes away.
func interrupted(l *look, err error, state string) error {
	if errors.Is(err, tree.ErrUnreachable) {
		return fault.New(fault.Unavailable, state, "%s stopped answering", l.server.Name).Because(err)
	}
	if errors.Is(err, context.Canceled) {
		return jobs.ErrStopped
	}
	if fault.KindOf(err) != 0 {
		return err
	}
	return fmt.Errorf("%w; %s", estate.Unavailable(l.server, err), state)
}

// planner finds out what a change does to each file and folder.
type planner struct {
	s       *Service
	job     *jobs.Job
	look    *look
	work    settings
	ids     records.DescriptorIDs
	batch   []records.RightsObject
	looked  int64
	objects int64
	weight  float64
}

// planBatch is how many objects are kept at once.
const planBatch = 500

func (p *planner) make(ctx context.Context) error {
	if err := p.s.db.Change(ctx, func(tx *records.Tx) error { return tx.ForgetRightsObjects(ctx, p.job.ID) }); err != nil {
		return err
	}
	own := p.look.own()
	after, err := next(own, p.look.parent(), p.look.Folder, p.work)
	if err != nil {
		return err
	}
	if err := p.add(ctx, p.look.Path, p.look.Folder, own, after); err != nil {
		return err
	}
	settled := own.HandsDownAs(after) && p.work.Asked.Action != model.RightsReplace && !p.work.Asked.Below
	if p.look.Folder && !settled {
		if err := p.folder(ctx, p.look.Path, after, 1); err != nil {
			return err
		}
	}
	return p.flush(ctx)
}

func descriptorOf(p acl.Parts) acl.Descriptor {
	d, err := p.Descriptor()
	if err != nil {
		return acl.Descriptor{}
	}
	return d
}

// folder plans what is below a folder whose permissions become parent. weight
// is how much of all that is, as far as can be told.
func (p *planner) folder(ctx context.Context, name string, parent acl.Parts, weight float64) error {
	type todo struct {
		name  string
		after acl.Parts
	}
	var folders []todo
	for e, err := range p.look.tree.List(ctx, inside(name), tree.WithDescriptors) {
		if err != nil {
			return err
		}
		if tree.Reserved(e.Name) {
			continue
		}
		p.looked++
		own, isFolder, child := e.Descriptor.Parts(), e.Kind == tree.Folder, path.Join(name, e.Name)
		after, settled := below(own, parent, isFolder, p.work)
		if err := p.add(ctx, child, isFolder, own, after); err != nil {
			return err
		}
		if isFolder && !settled {
			folders = append(folders, todo{child, after})
		}
	}
	share := weight / float64(len(folders)+1)
	p.weight += share
	p.job.Progress(p.looked, 0, p.weight/2) // the other half is doing it
	for _, f := range folders {
		if err := p.folder(ctx, f.name, f.after, share); err != nil {
			return err
		}
	}
	return nil
}

func (p *planner) add(ctx context.Context, name string, folder bool, before, after acl.Parts) error {
	was, err := before.Descriptor()
	if err != nil {
		return err
	}
	is, err := after.Descriptor()
	if errors.Is(err, acl.ErrTooLarge) {
		return fault.Field("account", "grant a group instead of many accounts", "the permissions of %s would be larger than a server can hold", name).Because(err)
	}
	if err != nil || was == is {
		return err
	}
	p.batch = append(p.batch, records.RightsObject{Seq: p.objects, Path: name, Folder: folder, Before: was, After: is})
	p.objects++
	if len(p.batch) < planBatch {
		return nil
	}
	return p.flush(ctx)
}

func (p *planner) flush(ctx context.Context) error {
	err := p.s.db.Change(ctx, func(tx *records.Tx) error { return tx.AddRightsObjects(ctx, p.job.ID, p.batch, p.ids) })
	p.batch = p.batch[:0]
	return err
}

// objects keeps what is done about each file and folder of a change.
type objects struct {
	db  *records.DB
	run int64
}

func (o objects) Next(ctx context.Context, from int64, back bool, limit int, states ...string) (list []steps.Numbered[records.RightsObject], err error) {
	found, err := o.db.RightsObjects(ctx, o.run, from, back, limit, states...)
	for _, one := range found {
		list = append(list, steps.Numbered[records.RightsObject]{Seq: one.Seq, State: one.State, Step: one})
	}
	return list, err
}

func (o objects) Mark(ctx context.Context, seq int64, state, found string) error {
	return o.db.MarkRightsObject(ctx, o.run, seq, state, found)
}

// sequence gives each file and folder of a change its permissions, if it still has those that
// it is to lose.
func (s *Service) sequence(l *look, run int64) *steps.Sequence[records.RightsObject] {
	return &steps.Sequence[records.RightsObject]{Source: objects{s.db, run}, Alone: single, Words: troubleOf,
		Do: func(ctx context.Context, o records.RightsObject) (string, error) {
			return "", apply(ctx, l, o.Path, o.Before, o.After)
		},
		Undo: func(ctx context.Context, o records.RightsObject) error {
			return apply(ctx, l, o.Path, o.After, o.Before)
		}}
}

func troubleOf(err error) string {
	if errors.Is(err, tree.ErrNoSpace) {
		return "the server cannot hold that many entries: " + err.Error()
	}
	return err.Error()
}

// carryOut does what was planned and is not done yet, in order: a folder
// before what it holds.
func (s *Service) carryOut(ctx context.Context, job *jobs.Job, l *look, p progress) error {
	counts, err := s.db.RightsCounts(ctx, job.ID)
	if err != nil {
		return err
	}
	done := counts.Done
	q := s.sequence(l, job.ID)
	q.Progress = func() {
		done++
		job.Progress(p.Looked, 0, 0.5+0.5*float64(done)/float64(max(p.Objects, 1)))
	}
	failed, err := q.Forward(ctx)
	if err != nil {
		return interrupted(l, err, fmt.Sprintf("%d of %d are changed: finish it with bspan run resume %d, or take it back with bspan rights undo %d", done, p.Objects, job.ID, job.ID))
	}
	if failed > 0 {
		return fault.New(fault.Stale, fmt.Sprintf("see which with: bspan rights change %d; then finish or undo it", job.ID), "%d of %d could not be changed", failed, p.Objects)
	}
	return nil
}

// single reports whether an error is about one object alone, so that the
// others can still be done.
func single(err error) bool {
	return errors.Is(err, fs.ErrPermission) || errors.Is(err, fs.ErrNotExist) || errors.Is(err, tree.ErrInUse) || errors.Is(err, errChangedSince) || errors.Is(err, tree.ErrNoSpace)
}

var errChangedSince = errors.New("its permissions were changed by somebody else since the plan was made")

func apply(ctx context.Context, l *look, name string, from, to acl.Descriptor) error {
	now, err := l.tree.Descriptor(ctx, inside(name))
	switch {
	case err != nil:
		return err
	case now == to: // done before a crash could be noted
		return nil
	case now != from:
		return errChangedSince
	}
	return l.tree.Apply(ctx, inside(name), tree.Meta{Descriptor: to})
}

// undo takes back what a run did, last things first.
func (s *Service) undo(ctx context.Context, job *jobs.Job, l *look, run int64) error {
	counts, err := s.db.RightsCounts(ctx, run)
	if err != nil {
		return err
	}
	total, undone := counts.Done+counts.Undone, counts.Undone
	q := s.sequence(l, run)
	q.Progress = func() {
		undone++
		job.Progress(undone, 0, float64(undone)/float64(max(total, 1)))
	}
	failed, err := q.Back(ctx)
	if err != nil {
		return interrupted(l, err, fmt.Sprintf("%d of %d are taken back: go on with bspan run resume %d", undone, total, job.ID))
	}
	if failed > 0 {
		return fault.New(fault.Stale, fmt.Sprintf("see which with: bspan rights change %d", run), "%d of %d could not be taken back", failed, total)
	}
	return nil
}
