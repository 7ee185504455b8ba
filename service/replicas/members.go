package replicas

import (
	"context"
	"errors"
	"slices"

	"bridgespan/core/fault"
	"bridgespan/core/replica"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/replicas/sets"
)

// AddReplica adds a place to a set. What it holds that the others do not goes to
// its attic; the others stay as they are. version is what the caller last read.
func (s *Service) AddReplica(ctx context.Context, name string, version int64, n model.NewReplica) error {
	return s.members(ctx, name, version, "replica.add", func(ctx context.Context, set *model.ReplicaSet) error {
		if n.Seed {
			return fault.Field("seed", "leave it out", "a set has its seed already")
		}
		if n.IntakeQuota == 0 { // as much as suits the others
			for _, other := range set.Replicas {
				n.IntakeQuota = max(n.IntakeQuota, other.IntakeQuota)
			}
		}
		r, err := s.Place(ctx, len(set.Replicas), n)
		if err != nil {
			return plain(err)
		}
		set.Replicas = append(set.Replicas, r)
		if err := plain(sets.NameReplicas(set)); err != nil {
			return err
		}
		if err := plain(sets.Apart(set)); err != nil {
			return err
		}
		return nil
	})
}

// RemoveReplica takes a place out of a set; its files stay where they are.
func (s *Service) RemoveReplica(ctx context.Context, name string, version int64, of string) error {
	return s.members(ctx, name, version, "replica.drop", func(_ context.Context, set *model.ReplicaSet) error {
		r, err := sets.FindReplica(set, of)
		if err != nil {
			return err
		}
		if len(set.Replicas) == 2 {
			return fault.New(fault.Needed, "end the set: bspan replica remove "+set.Name, "a set needs two replicas")
		}
		if err := sets.WithoutStubs(set, r, "replica"); err != nil {
			return err
		}
		if r.ID == set.Replicas[0].ID { // it may be the bucket of the others
			if err := sets.NoStubs(set, "replica"); err != nil {
				return err
			}
		}
		if err := passSeedOn(set, r); err != nil {
			return err
		}
		set.Replicas = slices.DeleteFunc(set.Replicas, func(other model.Replica) bool { return other.ID == r.ID })
		return nil
	})
}

// EditReplica changes a place of a set: its quotas, where it is, or that it is
// the seed.
func (s *Service) EditReplica(ctx context.Context, name string, version int64, of string, e model.EditReplica) error {
	return s.members(ctx, name, version, "replica.place", func(ctx context.Context, set *model.ReplicaSet) error {
		r, err := sets.FindReplica(set, of)
		if err != nil {
			return err
		}
		model.Take(&r.IntakeQuota, e.IntakeQuota)
		model.Take(&r.AtticQuota, e.AtticQuota)
		model.Take(&r.SweepMin, e.SweepMin)
		if err := sets.CheckSweep("sweepMin", r); err != nil {
			return err
		}
		if err := sets.Decide(r, e.Removals); err != nil {
			return err
		}
		if e.Edge != nil {
			r.Edge = e.Edge
			if err := s.CheckEdges(ctx, set, func(_ int, name string) string { return name }); err != nil {
				return err
			}
		}
		if e.Home != nil {
			if err := sets.WithoutStubs(set, r, "home"); err != nil {
				return err
			}
			if err := s.rehome(ctx, set, r, *e.Home); err != nil {
				return err
			}
		}
		if e.Seed {
			return chooseOtherSeed(set, r)
		}
		return nil
	})
}

// rehome puts a replica at another place: its server was replaced, say. It is
// looked at anew, and what it holds already is adopted.
func (s *Service) rehome(ctx context.Context, set *model.ReplicaSet, r *model.Replica, home model.ReplicaHome) error {
	moved, err := s.Place(ctx, 0, model.NewReplica{Name: r.Name, Server: home.Server, Share: home.Share, Sub: home.Sub, IntakeQuota: r.IntakeQuota, AtticQuota: r.AtticQuota, SweepMin: r.SweepMin, Edge: r.Edge})
	if err != nil {
		return plain(err)
	}
	if moved.Target() == r.Target() {
		return fault.Field("home", "name another place", "%s is there already", r.Name)
	}
	if err := passSeedOn(set, r); err != nil {
		return err
	}
	moved.Name = r.Name
	*r = moved // with a number of its own from now on
	return plain(sets.Apart(set))
}

// passSeedOn makes another replica the one that the others are compared with. It
// must have all that the set has.
func passSeedOn(set *model.ReplicaSet, r *model.Replica) error {
	i := slices.IndexFunc(set.Replicas, func(other model.Replica) bool { return other.ID != r.ID && other.Filled })
	if i < 0 {
		return fault.New(fault.Needed, "wait until another one is filled", "no other replica of %s has all that it has yet", set.Name)
	}
	if r.Seed {
		r.Seed, set.Replicas[i].Seed = false, true
	}
	return nil
}

// chooseOtherSeed lets another replica win the first fill, before anything was
// carried: all begin anew.
func chooseOtherSeed(set *model.ReplicaSet, r *model.Replica) error {
	for _, l := range set.Lanes {
		if l.Carried.Files > 0 {
			return fault.New(fault.Needed, "restore what you need from the attics, or make a new set", "the first fill of %s has begun: the seed cannot be another one any more", set.Name)
		}
	}
	for i := range set.Replicas {
		other := &set.Replicas[i]
		if other.Attic.Items > 0 {
			return fault.New(fault.Needed, "restore what you need from the attics, or make a new set", "the first fill of %s has begun: the attic of %s keeps %d files", set.Name, other.Name, other.Attic.Items)
		}
	}
	for i := range set.Replicas {
		other := &set.Replicas[i]
		other.Seed, other.ID, other.Scanned, other.Filled = other.Name == r.Name, 0, false, false
	}
	return nil
}

// plain blames a field of a single replica as the caller named it.
func plain(err error) error {
	var f *fault.Error
	if sets.AsFault(err, &f) {
		if _, after, ok := sets.CutLast(f.Field, "."); ok {
			return f.At(after)
		}
	}
	return err
}

// members changes which places a set has. Replicas without a number are new.
func (s *Service) members(ctx context.Context, name string, version int64, action string, edit func(ctx context.Context, set *model.ReplicaSet) error) error {
	before, err := s.DB.ReplicaSet(ctx, name)
	if err != nil {
		return err
	}
	set := before
	set.Replicas = slices.Clone(before.Replicas)
	if err := edit(ctx, &set); err != nil {
		return err
	}
	if err := s.PairUp(ctx, &set); err != nil {
		return plain(err)
	}
	fresh := set
	fresh.Replicas = slices.DeleteFunc(slices.Clone(set.Replicas), func(r model.Replica) bool { return r.ID != 0 })
	if len(fresh.Replicas) > 0 {
		if err := plain(s.PhysicallyApart(ctx, &set)); err != nil {
			return err
		}
	}
	making := &folders{s, new([]madeFolder), func(context.Context) error { return nil }}
	if err := making.all(ctx, &set); err != nil {
		return plain(err)
	}
	set.Version = version
	err = s.Change(ctx, func(tx *records.Tx) error {
		if err := plain(s.Free(ctx, tx.Queries, fresh)); err != nil {
			return err
		}
		if err := tx.UpdateReplicaSet(ctx, set); err != nil {
			return tx.Since(ctx, err, set.Name, version)
		}
		changed := set
		changed.Replicas = slices.Clone(set.Replicas)
		if err := tx.StoreMembers(ctx, &changed, before.Replicas); err != nil {
			return err
		}
		former := survivors(before, changed)
		changed.Lanes = former
		if changed.Layout == model.LayoutCustom {
			customLanes(&changed)
		} else {
			sets.Relay(&changed)
		}
		keepCalendars(&changed, before.Lanes)
		if err := everyoneIsReached(&changed); err != nil {
			return err
		}
		if err := replaceLanes(ctx, tx, changed, former); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, action, set.Name, placesOf(before), placesOf(changed)), sets.Topic)
	})
	if err != nil {
		return errors.Join(err, making.none(context.WithoutCancel(ctx), &set))
	}
	if !records.Rehearsing(ctx) {
		s.unmarkLeft(ctx, before, set)
	}
	return nil
}

// survivors are the lanes whose ends are both still there.
func survivors(before, after model.ReplicaSet) (lanes []model.Lane) {
	there := map[int64]bool{}
	for _, r := range after.Replicas {
		there[r.ID] = true
	}
	for _, l := range before.Lanes {
		if there[l.FromID] && there[l.ToID] {
			lanes = append(lanes, l)
		}
	}
	return lanes
}

// customLanes adds lanes from and to replicas that have none: between them and the seed.
func customLanes(set *model.ReplicaSet) {
	seed := set.Replicas[slices.IndexFunc(set.Replicas, func(r model.Replica) bool { return r.Seed })]
	set.Lanes = slices.Clone(set.Lanes)
	for _, r := range set.Replicas {
		if r.ID == seed.ID || slices.ContainsFunc(set.Lanes, func(l model.Lane) bool { return l.ToID == r.ID }) {
			continue
		}
		set.Lanes = append(set.Lanes, model.Lane{From: seed.Name, To: r.Name, FromID: seed.ID, ToID: r.ID}, model.Lane{From: r.Name, To: seed.Name, FromID: r.ID, ToID: seed.ID})
	}
}

// keepCalendars gives lanes the calendars that those between replicas of the
// same names had.
func keepCalendars(set *model.ReplicaSet, before []model.Lane) {
	for i := range set.Lanes {
		l := &set.Lanes[i]
		for _, was := range before {
			if was.From == l.From && was.To == l.To {
				l.Calendar = was.Calendar
			}
		}
	}
}

func everyoneIsReached(set *model.ReplicaSet) error {
	var ids []replica.ID
	var lanes []replica.Lane
	seed := replica.ID(0)
	for _, r := range set.Replicas {
		ids = append(ids, replica.ID(r.ID))
		if r.Seed {
			seed = replica.ID(r.ID)
		}
	}
	for _, l := range set.Lanes {
		lanes = append(lanes, replica.Lane{From: replica.ID(l.FromID), To: replica.ID(l.ToID)})
	}
	for _, left := range replica.Unreached(seed, ids, lanes) {
		i := slices.IndexFunc(set.Replicas, func(r model.Replica) bool { return replica.ID(r.ID) == left })
		return fault.New(fault.Needed, "choose another layout first", "no way would lead to %s any more", set.Replicas[i].Name)
	}
	return nil
}

// placesOf is where the replicas of a set are, for the record of a change.
func placesOf(set model.ReplicaSet) map[string]any {
	places := map[string]any{}
	for _, r := range set.Replicas {
		places[r.Name] = map[string]any{"at": r.Target().String(), "seed": r.Seed, "intakeQuota": r.IntakeQuota, "atticQuota": r.AtticQuota, "sweepMin": r.SweepMin, "edge": r.Edge, "decision": r.Decision}
	}
	return places
}

// unmarkLeft takes the marks away from places that a set has left.
func (s *Service) unmarkLeft(ctx context.Context, before, after model.ReplicaSet) {
	left := before
	left.Replicas = slices.DeleteFunc(slices.Clone(before.Replicas), func(r model.Replica) bool {
		return slices.ContainsFunc(after.Replicas, func(other model.Replica) bool { return other.Target() == r.Target() })
	})
	s.unmark(context.WithoutCancel(ctx), left)
}

// RenewAccounts pairs the accounts of a set anew, after its map or the accounts
// of a server have changed. Replicas at which that makes a difference are looked
// at anew: their content is adopted, and they are given the permissions of the set.
func (s *Service) RenewAccounts(ctx context.Context, name string, version int64) error {
	set, err := s.DB.ReplicaSet(ctx, name)
	if err != nil {
		return err
	}
	if set.Permissions != model.PermissionsMap {
		return fault.New(fault.Needed, "nothing has to be done", "%s does not carry permissions through an account map", set.Name)
	}
	other, err := s.OtherPairs(ctx, &set)
	if err != nil || len(other) == 0 {
		return err
	}
	return s.members(ctx, name, version, "replica.accounts", func(_ context.Context, set *model.ReplicaSet) error {
		for i := range set.Replicas {
			r := &set.Replicas[i]
			if _, changed := other[r.Name]; !changed {
				continue
			}
			if err := passSeedOn(set, r); err != nil {
				return err
			}
			r.ID, r.Scanned, r.Filled = 0, false, false
		}
		return nil
	})
}
