package replicas

import (
	"context"
	"path"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/core/replica"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/tree"
)

// Attic lists what the attics of a set keep, newest first: those before a number,
// unless it is 0; of one replica and for one reason, unless these are "".
func (s *Service) Attic(ctx context.Context, name, of, why string, before int64, limit int) ([]model.AtticItem, error) {
	set, err := s.db.ReplicaSet(ctx, name)
	if err != nil {
		return nil, err
	}
	return s.db.AtticItems(ctx, set.ID, of, why, before, limit)
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
	if top, _, _ := cutPath(to); tree.Reserved(top) {
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
		if isTaken(err) {
			return item, fault.Field("as", "give another path to put it beside", "%s is there again at %s", to, item.Replica)
		}
		return item, err
	}
	item.Path = to
	if err := s.recordAttic(ctx, set, item, "replica.attic.restore", to); err != nil {
		return item, err
	}
	prune(ctx, t, item.Attic)
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
		if err := throwAway(ctx, t, item); err != nil {
			return err
		}
	}
	return s.recordAttic(ctx, set, item, "replica.attic.purge", "")
}

// recordAttic forgets an item that is no longer in its attic.
func (s *Service) recordAttic(ctx context.Context, set model.ReplicaSet, item model.AtticItem, action, to string) error {
	return s.change(ctx, func(tx *records.Tx) error {
		if err := tx.ForgetAttic(ctx, item.ID); err != nil {
			return err
		}
		var after any
		if to != "" {
			after = map[string]string{"path": to}
		}
		return tx.Record(ctx, access.Change(ctx, action, set.Name+": "+item.Replica+"/"+item.Path, item, after), topic)
	})
}

// atticItem finds something that an attic keeps, with the permissions that it had when it
// has others there, and opens its replica, which the caller must close. Permissions name
// accounts as the set does.
func (s *Service) atticItem(ctx context.Context, name string, id int64) (set model.ReplicaSet, item model.AtticItem, had acl.Descriptor, t tree.Tree, err error) {
	if set, err = s.db.ReplicaSet(ctx, name); err != nil {
		return set, item, had, nil, err
	}
	if item, had, err = s.db.AtticItem(ctx, set.ID, id); err != nil {
		return set, item, had, nil, err
	}
	r, err := findReplica(&set, item.Replica)
	if err != nil {
		return set, item, had, nil, err
	}
	t, err = s.openReplica(ctx, r)
	return set, item, had, t, err
}

// throwAway removes something from an attic.
func throwAway(ctx context.Context, t tree.Tree, item model.AtticItem) error {
	if err := t.Remove(ctx, item.Attic); err != nil && !isMissing(err) {
		return err
	}
	prune(ctx, t, item.Attic)
	return nil
}

// prune removes the folders above something that left the attic, when they are empty.
func prune(ctx context.Context, t tree.Tree, name string) {
	for above := path.Dir(name); path.Base(above) != "attic" && above != "."; above = path.Dir(above) {
		if t.Remove(ctx, above) != nil {
			return
		}
	}
}

// tidyEvery is how often attics are looked at for what they have kept long enough,
// or beyond their quota; they are at once when settings change.
const tidyEvery = time.Minute

// tidyAttics throws away what attics have kept long enough, until ctx ends.
func (r *round) tidyAttics(ctx context.Context) {
	for {
		for _, p := range r.places {
			p.tidyAttic(ctx)
		}
		select {
		case <-ctx.Done():
			return
		case <-r.untidy:
		case <-time.After(tidyEvery):
		}
	}
}

func (p *place) tidyAttic(ctx context.Context) {
	p.mu.Lock()
	days := p.set.AtticDays
	p.mu.Unlock()
	quota := p.snapshot().AtticQuota
	for {
		old, err := p.db.ExpiredAttic(ctx, replica.ID(p.ID), now().AddDate(0, 0, -days), 500)
		if err == nil && len(old) == 0 && quota > 0 {
			old, err = p.db.AtticBeyond(ctx, replica.ID(p.ID), quota)
		}
		if err != nil || len(old) == 0 {
			return
		}
		for _, item := range old {
			if err := throwAway(ctx, p.tree, item); err != nil {
				p.trouble(troubleAt(p.Name, item.Attic, err))
				return
			}
			if err := p.db.ForgetAttic(ctx, item.ID); err != nil {
				return
			}
		}
	}
}
