package replicas

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/jobs"
	"bridgespan/service/replicas/planning"
	"bridgespan/service/replicas/sets"
	"bridgespan/service/steps"
)

// createKind is the kind of runs that make a set.
const createKind = "create-set"

// Create begins to make a set, step by step: see [Service.Created]. What is asked
// is checked first. A rehearsal makes the records alone, and takes them back.
func (s *Service) Create(ctx context.Context, n model.NewReplicaSet) (model.ReplicaCreation, error) {
	none := model.ReplicaCreation{Set: n.Name, Steps: []model.Step{}}
	c, err := s.creation(ctx, n)
	if err != nil {
		return none, err
	}
	if err := s.Passed(ctx, c.plan, n); err != nil {
		return none, err
	}
	if records.Rehearsing(ctx) {
		return none, c.rehearse(ctx)
	}
	if err := cmp.Or(s.Free(ctx, s.DB.Queries, c.set), s.PhysicallyApart(ctx, &c.set)); err != nil {
		return none, err
	}
	if _, err := s.DB.ReplicaSet(ctx, n.Name); err == nil {
		return none, (&fault.Error{Kind: fault.Taken, Field: "name", Remedy: "choose another name", Problem: fmt.Sprintf("there is a replica set %s already", n.Name)})
	}
	run, err := s.Runs.Start(ctx, createKind, n.Name, n)
	if err != nil {
		return none, err
	}
	return s.Created(ctx, run)
}

// Created shows how far the making of a set is.
func (s *Service) Created(ctx context.Context, id int64) (model.ReplicaCreation, error) {
	c := model.ReplicaCreation{Steps: []model.Step{}}
	r, err := s.Runs.Read(ctx, id, createKind, nil, &c)
	c.Run, c.Set = r, r.Subject
	return c, err
}

// creation makes one set.
type creation struct {
	*Service
	asked model.NewReplicaSet
	set   model.ReplicaSet
	plan  model.Run // without a number when it was not planned
	steps []creationStep
	kept  creationKept
	save  func(context.Context) error // of what is kept
}

// creationKept is what a creation that was broken off needs to go on, or to be
// taken back.
type creationKept struct {
	Steps []model.Step `json:"steps"`
	Made  []madeFolder `json:"made"`
	// Sealed are the folders of buckets that were not sealed before.
	Sealed []namespace.Target `json:"sealed,omitempty"`
	// Created tells the set from another one of the same name.
	Created time.Time `json:"created"`
}

// creationStep is a step of making a set.
type creationStep struct {
	steps.Step
	// folderOf is the replica whose folder this makes, when it is missing.
	folderOf *model.Replica
}

func (s *Service) creation(ctx context.Context, n model.NewReplicaSet) (*creation, error) {
	set, err := s.Draft(ctx, n)
	if err != nil {
		return nil, err
	}
	plan, err := s.PlanOf(ctx, n)
	if err != nil {
		return nil, err
	}
	if plan.State == model.RunDone {
		set.PlanRun = plan.ID
	}
	if err := s.PlannedIntakes(ctx, &set, n); err != nil {
		return nil, err
	}
	c := &creation{Service: s, asked: n, set: set, plan: plan, kept: creationKept{Created: set.Created}, save: func(context.Context) error { return nil }}
	making := &folders{s, &c.kept.Made, func(ctx context.Context) error { return c.save(ctx) }}
	add := func(step steps.Step, folderOf *model.Replica) {
		c.steps = append(c.steps, creationStep{step, folderOf})
	}
	if set.Permissions == model.PermissionsMap {
		add(steps.Step{Text: accountsStep(&c.set), Do: c.pairAccounts}, nil)
	}
	for i, r := range set.Replicas {
		if r.Sub != "" {
			add(steps.Step{Text: folderStep(&c.set, i), Partly: true,
				Do:   func(ctx context.Context) (string, error) { return making.make(ctx, &c.set, i) },
				Undo: func(ctx context.Context) error { return making.remove(ctx, &c.set.Replicas[i]) }}, &c.set.Replicas[i])
		}
	}
	for i := range set.Replicas {
		if r := &c.set.Replicas[i]; r.Sealing != nil {
			add(steps.Step{Text: sealStep(r), Do: func(ctx context.Context) (string, error) { return c.seal(ctx, r) }, Undo: func(ctx context.Context) error { return c.unseal(ctx, r) }, Partly: true}, nil)
		}
	}
	add(steps.Step{Text: recordStep(&c.set), Do: c.record, Undo: c.unrecord, Partly: true}, nil)
	if n.Publish != "" {
		add(steps.Step{Text: publishStep(n.Publish), Do: c.lead}, nil)
	}
	for i := range set.Replicas {
		add(steps.Step{Text: pickUpStep(&c.set, i), Do: func(ctx context.Context) (string, error) { return c.pickUp(ctx, i) }}, nil)
	}
	return c, nil
}

// The steps as a plan foretells them, and the creation shows them.

func folderStep(set *model.ReplicaSet, i int) string {
	r := &set.Replicas[i]
	switch r.Rights {
	case "", sets.RightsInherit:
		return fmt.Sprintf("Make the folder %s.", r.Target())
	case sets.RightsOfSeed:
		return fmt.Sprintf("Make the folder %s, with the permissions of the seed's folder.", r.Target())
	}
	return fmt.Sprintf("Make the folder %s, with the permissions %s.", r.Target(), r.Rights)
}

func accountsStep(set *model.ReplicaSet) string {
	return fmt.Sprintf("Pair the accounts of %s with those of the other servers by the map %s.", set.AccountsOf, set.AccountMap)
}

func sealStep(r *model.Replica) string {
	what := "contents"
	if r.Sealing.Names {
		what = "contents and names"
	}
	return fmt.Sprintf("Seal the folder %s: the %s of its files are encrypted before they are sent. Its key can be opened with %s.", r.Target(), what, sets.Count(int64(len(r.Sealing.RecoveryKeys)), "recovery key", "recovery keys"))
}

func recordStep(set *model.ReplicaSet) string {
	return fmt.Sprintf("Write down the set %s: %d replicas, %d lanes (%s).", set.Name, len(set.Replicas), len(set.Lanes), set.Layout)
}

func publishStep(path string) string {
	return fmt.Sprintf("Let the signpost %s lead to all of them; those that were not verified are held.", path)
}

func pickUpStep(set *model.ReplicaSet, i int) string {
	r := &set.Replicas[i]
	return fmt.Sprintf("Mark %s as the replica %s, in its folder .bspan, and begin to look at all of it.", r.Target(), r.Name)
}

// createSet works on the making of a set. When a step fails, those before it are
// taken back.
func (s *Service) createSet(ctx context.Context, job *jobs.Job) error {
	var asked model.NewReplicaSet
	if err := job.Settings(&asked); err != nil {
		return err
	}
	ctx = access.WithActor(ctx, model.User{Name: job.Who, Role: model.Administrator}) // the role was asked for when the run was started
	c, err := s.creation(ctx, asked)
	if err != nil {
		return err
	}
	resumed, err := job.Resumes(&c.kept)
	if err != nil {
		return err
	}
	list := c.list()
	c.save = func(ctx context.Context) error {
		job.Progress(int64(list.Done()), 0, float64(list.Done())/float64(len(c.steps)))
		return job.Checkpoint(ctx, c.kept, c.result())
	}
	c.set.Created = c.kept.Created
	if resumed { // what was found out is not kept
		if err := c.PairUp(ctx, &c.set); err != nil {
			return err
		}
	}
	err = list.Run(ctx)
	if ctx.Err() != nil {
		err = errors.Join(jobs.ErrStopped, list.Undo(context.WithoutCancel(ctx)))
	}
	if err != nil {
		_ = job.Finish(c.result())
		return err
	}
	if err := s.EndSetup(ctx, c.set.Name); err != nil {
		return err
	}
	return job.Finish(c.result())
}

func (c *creation) result() model.ReplicaCreation {
	return model.ReplicaCreation{Set: c.set.Name, Steps: c.kept.Steps}
}

// list is what is done, with how far it is.
func (c *creation) list() *steps.List {
	l := &steps.List{States: c.kept.Steps, Words: sets.Words, Keep: func(ctx context.Context, states []model.Step) error {
		c.kept.Steps = states
		return c.save(ctx)
	}}
	for _, s := range c.steps {
		l.Steps = append(l.Steps, s.Step)
	}
	if len(l.States) != len(l.Steps) {
		l.States = steps.Planned(l.Steps)
	}
	c.kept.Steps = l.States
	return l
}

// rehearse makes the records of a set.
func (c *creation) rehearse(ctx context.Context) error {
	if err := c.PairUp(ctx, &c.set); err != nil {
		return err
	}
	for i := range c.set.Replicas {
		if r := &c.set.Replicas[i]; r.Sealing != nil {
			if err := c.Estate.SealFolder(ctx, r.Target(), *r.Sealing); err != nil {
				return err
			}
		}
	}
	if _, err := c.record(ctx); err != nil {
		return err
	}
	if c.asked.Publish != "" && c.publish != nil {
		return c.publish(ctx, c.asked.Publish, c.peoplesPlaces(ctx))
	}
	return nil
}

func (c *creation) pairAccounts(ctx context.Context) (string, error) {
	if err := c.PairUp(ctx, &c.set); err != nil {
		return "", err
	}
	var n int64
	for _, r := range c.set.Replicas {
		n += int64(len(r.Accounts))
	}
	if n == 0 {
		return "no account is another one there", nil
	}
	return sets.Count(n, "pair", "pairs"), nil
}

func (c *creation) seal(ctx context.Context, r *model.Replica) (string, error) {
	_, already, err := c.DB.SealedFolder(ctx, r.Target())
	if err != nil {
		return "", err
	}
	if !already { // it is noted before, so that undoing it knows after a crash
		c.kept.Sealed = append(c.kept.Sealed, r.Target())
		if err := c.save(ctx); err != nil {
			return "", err
		}
	}
	if err := c.Estate.SealFolder(ctx, r.Target(), *r.Sealing); err != nil || slices.Contains(c.kept.Sealed, r.Target()) {
		return "", err
	}
	return "it is sealed already", nil
}

func (c *creation) unseal(ctx context.Context, r *model.Replica) error {
	if !slices.Contains(c.kept.Sealed, r.Target()) {
		return nil
	}
	return c.Estate.Unseal(ctx, r.Target())
}

func (c *creation) record(ctx context.Context) (string, error) {
	if there, err := c.DB.ReplicaSet(ctx, c.set.Name); err == nil && there.Created.Equal(c.set.Created) {
		c.set = there // an earlier part of the work came so far
		return "", nil
	}
	// What the first fill takes is counted from here.
	c.kept.Created = sets.Now()
	c.set.Created = c.kept.Created
	if err := c.save(ctx); err != nil {
		return "", err
	}
	// Until it is published it is paused: what is taken back then has left no trace.
	c.set.Paused = c.asked.Publish != ""
	return "", c.Change(ctx, func(tx *records.Tx) error {
		if err := c.Free(ctx, tx.Queries, c.set); err != nil {
			return err
		}
		if err := tx.AddReplicaSet(ctx, &c.set); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "replica.create", c.set.Name, nil, c.asked), sets.Topic)
	})
}

func (c *creation) unrecord(ctx context.Context) error {
	there, err := c.DB.ReplicaSet(ctx, c.set.Name)
	if fault.KindOf(err) == fault.NotFound || err == nil && !there.Created.Equal(c.set.Created) {
		return nil
	}
	if err != nil {
		return err
	}
	return c.Remove(ctx, c.set.Name, there.Version)
}

func (c *creation) lead(ctx context.Context) (string, error) {
	if err := c.publish(ctx, c.asked.Publish, c.peoplesPlaces(ctx)); err != nil {
		return "", err
	}
	return "", c.Change(ctx, func(tx *records.Tx) error {
		set, err := tx.ReplicaSet(ctx, c.set.Name)
		if err != nil {
			return err
		}
		set.Paused = false
		return tx.UpdateReplicaSet(ctx, set)
	})
}

// peoplesPlaces are the places of a set that people can be led to, that of the seed
// first: people are led there until the others are verified.
func (c *creation) peoplesPlaces(ctx context.Context) (targets []namespace.Target) {
	for _, seed := range []bool{true, false} {
		for i := range c.set.Replicas {
			if r := &c.set.Replicas[i]; r.Seed == seed && !c.WithoutAccounts(ctx, r.Server) {
				targets = append(targets, r.Target())
			}
		}
	}
	return targets
}

// plannedSteps are what making a set does, as a plan tells it.
func (s *Service) plannedSteps(ctx context.Context, asked model.NewReplicaSet) (list []planning.PlannedStep) {
	c, err := s.creation(ctx, asked)
	if err != nil {
		return nil
	}
	for _, st := range c.steps {
		planned := planning.PlannedStep{Text: st.Text}
		if st.folderOf != nil {
			planned.FolderOf = st.folderOf.Name
		}
		list = append(list, planned)
	}
	return list
}
