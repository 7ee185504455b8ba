// Package setup sets up cloud sets in the order in which it is done: account, bucket, movers, settings, edges, policies, first fill,
// plan, start. What was entered is stored, so that a set-up can be left and resumed by anybody. Each step is checked, and the next one
// opens when no check of it failed.
package setup

import (
	"context"
	"time"

	"bridgespan/core/bucket"
	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/mover/update"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/replicas/planning"
	"bridgespan/service/replicas/sets"
	"bridgespan/tree/bucket/seal"
)

// Setups are the use cases.
type Setups struct {
	*sets.Base
	plans  *planning.Plans
	create func(context.Context, model.NewReplicaSet) (model.ReplicaCreation, error)
	build  string // of the program of this service
}

// Topic of the events about set-ups; the subject is the name.
const Topic = "cloud-setup"

// New makes the use cases. create begins to create a set.
func New(base *sets.Base, plans *planning.Plans, create func(context.Context, model.NewReplicaSet) (model.ReplicaCreation, error)) *Setups {
	s := &Setups{Base: base, plans: plans, create: create}
	if p, err := update.Running(); err == nil {
		s.build = p.Digest
	}
	return s
}

// Setups lists the cloud sets that are being set up, by name.
func (s *Setups) Setups(ctx context.Context, page records.Page) ([]model.CloudSetup, error) {
	list, err := s.DB.CloudSetups(ctx, page)
	for i := range list {
		if err == nil {
			err = s.complete(ctx, &list[i])
		}
	}
	return list, err
}

// Setup shows a set-up, with what the latest checks found.
func (s *Setups) Setup(ctx context.Context, name string) (model.CloudSetup, error) {
	c, err := s.DB.CloudSetup(ctx, name)
	if err == nil {
		err = s.complete(ctx, &c)
	}
	return c, err
}

// AddSetup begins the set-up of a cloud set. Its checks are made by [Setups.CheckSetup].
func (s *Setups) AddSetup(ctx context.Context, n model.NewCloudSetup) error {
	c := model.CloudSetup{Name: n.Name, CloudDraft: n.CloudDraft}
	if err := namespace.CheckElement("name", n.Name); err != nil {
		return err
	}
	if err := checkDraft(&c); err != nil {
		return err
	}
	s.stamp(ctx, &c)
	return s.Change(ctx, func(tx *records.Tx) error {
		if _, err := tx.ReplicaSet(ctx, c.Name); err == nil {
			return &fault.Error{Kind: fault.Taken, Field: "name", Remedy: "choose another name", Problem: "there is a replica set " + c.Name + " already"}
		}
		if err := tx.AddCloudSetup(ctx, c); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "cloud-setup.add", c.Name, nil, c.CloudDraft), Topic)
	})
}

// EditSetup changes a set-up. version is what the caller last read. What the checks found before is forgotten.
func (s *Setups) EditSetup(ctx context.Context, name string, version int64, e model.EditCloudSetup) error {
	return s.Change(ctx, func(tx *records.Tx) error {
		before, err := tx.CloudSetup(ctx, name)
		if err != nil {
			return err
		}
		c := before
		c.Version = version
		e.Take(&c.CloudDraft)
		if err := checkDraft(&c); err != nil {
			return err
		}
		s.stamp(ctx, &c)
		if err := tx.UpdateCloudSetup(ctx, c); err != nil {
			return tx.Since(ctx, err, c.Name, version)
		}
		return tx.Record(ctx, access.Change(ctx, "cloud-setup.edit", c.Name, before.CloudDraft, c.CloudDraft), Topic)
	})
}

// RemoveSetup discards a set-up. Neither its bucket nor its folders are touched.
func (s *Setups) RemoveSetup(ctx context.Context, name string, version int64) error {
	return s.Change(ctx, func(tx *records.Tx) error {
		c, err := tx.CloudSetup(ctx, name)
		if err != nil {
			return err
		}
		c.Version = version
		if err := tx.RemoveCloudSetup(ctx, c); err != nil {
			return tx.Since(ctx, err, c.Name, version)
		}
		return tx.Record(ctx, access.Change(ctx, "cloud-setup.remove", c.Name, c.CloudDraft, nil), Topic)
	})
}

// tell lets those who look at a set-up read it again.
func (s *Setups) tell(ctx context.Context, name string) error {
	defer s.Changed()
	return s.DB.Tell(ctx, Topic, name, sets.Now())
}

func (s *Setups) stamp(ctx context.Context, c *model.CloudSetup) {
	u, _ := access.Actor(ctx)
	c.Changed, c.By = sets.Now(), u.Name
}

// checkDraft checks what can be checked without asking anybody: rules of names, calendars and numbers.
func checkDraft(c *model.CloudSetup) error {
	d := &c.CloudDraft
	if d.Bucket != "" {
		if err := bucket.CheckName("bucket", d.Bucket); err != nil {
			return err
		}
	}
	if d.Folder != "" {
		if err := namespace.CheckPath("folder", d.Folder); err != nil {
			return err
		}
	}
	if d.Sealing != nil {
		if _, err := seal.ParseRecoveryKeys(d.Sealing.RecoveryKeys); err != nil {
			return fault.Field("sealing.recoveryKeys", "make a recovery key, and enter its public part, which begins with age1", "a recovery key is not accepted: %v", err)
		}
	}
	n := d.Asked(c.Name)
	set := model.ReplicaSet{Name: n.Name, Note: n.Note, Layout: n.Layout, Calendar: n.Calendar, Filter: n.Filter, AtticDays: max(n.AtticDays, 1), Retry: model.UsualRetry}
	model.Take(&set.RemovalLimit, n.RemovalLimit)
	if err := sets.CheckSettings(&set); err != nil {
		return err
	}
	return checkEdges(d)
}

// checkEdges checks the edges of a draft, each for itself and beside the others.
func checkEdges(d *model.CloudDraft) error {
	seeds := 0
	for i, e := range d.Edges {
		field := func(name string) string { return sets.EdgeField(i, name) }
		if e.Sub != "" {
			if err := namespace.CheckPath(field("sub"), e.Sub); err != nil {
				return err
			}
		}
		if e.Seed {
			seeds++
		}
		if seeds > 1 {
			return fault.Field(field("seed"), "choose one", "only one replica can win the first fill")
		}
		if err := sets.CheckPolicy(e.Policy, func(name string) string { return field("policy." + name) }); err != nil {
			return err
		}
		for _, other := range d.Edges[:i] {
			if namespace.Key(other.Server) == namespace.Key(e.Server) && namespace.Key(other.Share) == namespace.Key(e.Share) && sets.Overlaps(other.Sub, e.Sub) {
				return fault.Field(field("sub"), "choose a folder that is not inside or around it", "%s is entered twice", e.Server)
			}
		}
	}
	return nil
}

// checksLast bounds how long the checks of a set-up take.
const checksLast = time.Minute
