package replicas

import (
	"context"
	"path"

	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/replicas/sets"
	"bridgespan/tree"
)

// Attic lists what the attics of a set keep, newest first: those before a number,
// unless it is 0; of one replica and for one reason, unless these are "".
func (s *Service) Attic(ctx context.Context, name string, f model.AtticFilter, before int64, limit int) ([]model.AtticItem, error) {
	set, err := s.DB.ReplicaSet(ctx, name)
	if err != nil {
		return nil, err
	}
	return s.DB.AtticItems(ctx, set.ID, f, before, limit)
}

// Restore puts something that an attic keeps back where it was, or under another
// path, with its permissions. Replicas take it over as a change made there.
func (s *Service) Restore(ctx context.Context, name string, id int64, as string) (model.AtticItem, error) {
	set, item, had, t, err := s.atticItem(ctx, name, id)
	if err != nil {
		return item, err
	}
	defer t.Close()
	to := item.Path
	if as != "" {
		if err := namespace.CheckPath("as", as); err != nil {
			return item, err
		}
		to = as
	}
	if top, _, _ := sets.CutPath(to); tree.Reserved(top) {
		return item, fault.Field("as", "choose another path", "%q is where Bridge Span keeps what is its own", top)
	}
	if records.Rehearsing(ctx) {
		return item, s.recordAttic(ctx, set, item, "replica.attic.restore", to)
	}
	if err := tree.MkdirAll(ctx, t, path.Dir(to)); err != nil {
		return item, err
	}
	if !had.IsZero() { // before anybody sees it
		if err := t.Apply(ctx, item.Attic, tree.Meta{Descriptor: had}); err != nil {
			return item, err
		}
	}
	if err := t.Rename(ctx, item.Attic, to, false); err != nil {
		if !had.IsZero() {
			_ = tree.Seal(context.WithoutCancel(ctx), t, item.Attic)
		}
		if sets.IsTaken(err) {
			return item, fault.Field("as", "give another path to put it beside", "%s is there again at %s", to, item.Replica)
		}
		return item, err
	}
	item.Path = to
	if err := s.recordAttic(ctx, set, item, "replica.attic.restore", to); err != nil {
		return item, err
	}
	sets.Prune(ctx, t, item.Attic)
	return item, s.Look(ctx, name, item.Replica)
}

// Purge removes something that an attic keeps, for good.
func (s *Service) Purge(ctx context.Context, name string, id int64) error {
	set, item, _, t, err := s.atticItem(ctx, name, id)
	if err != nil {
		return err
	}
	defer t.Close()
	if !records.Rehearsing(ctx) {
		if err := sets.ThrowAway(ctx, t, item); err != nil {
			return err
		}
	}
	return s.recordAttic(ctx, set, item, "replica.attic.purge", "")
}

// recordAttic forgets an item that is no longer in its attic.
func (s *Service) recordAttic(ctx context.Context, set model.ReplicaSet, item model.AtticItem, action, to string) error {
	return s.Change(ctx, func(tx *records.Tx) error {
		if err := tx.ForgetAttic(ctx, item.ID); err != nil {
			return err
		}
		var after any
		if to != "" {
			after = map[string]string{"path": to}
		}
		return tx.Record(ctx, access.Change(ctx, action, set.Name+": "+item.Replica+"/"+item.Path, item, after), sets.Topic)
	})
}

// atticItem finds something that an attic keeps, with the permissions that it had when it
// has others there, and opens its replica, which the caller must close. Permissions name
// accounts as the set does.
func (s *Service) atticItem(ctx context.Context, name string, id int64) (set model.ReplicaSet, item model.AtticItem, had acl.Descriptor, t tree.Tree, err error) {
	if set, err = s.DB.ReplicaSet(ctx, name); err != nil {
		return set, item, had, nil, err
	}
	if item, had, err = s.DB.AtticItem(ctx, set.ID, id); err != nil {
		return set, item, had, nil, err
	}
	r, err := sets.FindReplica(&set, item.Replica)
	if err != nil {
		return set, item, had, nil, err
	}
	t, err = s.OpenReplica(ctx, r)
	return set, item, had, t, err
}
