package rights

import (
	"context"
	"io/fs"
	"path"
	"slices"
	"strings"

	"bridgespan/core/account"
	"bridgespan/core/fault"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/service/preflight"
)

// askedTogether is how many servers are asked at the same time.
const askedTogether = 8

// Across returns the effective access of a person to a path of a set at each replica except buckets, which have no accounts.
func (s *Service) Across(ctx context.Context, name, at, person string) (model.AccessAcross, error) {
	found := model.AccessAcross{Path: strings.Trim(at, "/"), As: person}
	set, err := s.db.ReplicaSet(ctx, name)
	if err != nil {
		return found, err
	}
	found.Set = set.Name
	if found.Path != "" && !fs.ValidPath(found.Path) {
		return found, fault.Field("path", "write it as folder/file, within the set", "%q is no path", at)
	}
	if person == "" {
		return found, fault.Field("as", "name somebody, such as ivy.marsh", "nobody was named")
	}
	common, err := s.inSet(ctx, &set, found.Path, person)
	if err != nil {
		return found, err
	}
	for _, r := range set.Replicas {
		if !r.Swept { // nobody signs in at a bucket
			found.Places = append(found.Places, model.AccessAt{Replica: r.Name, Place: path.Join(r.Target().String(), found.Path)})
		}
	}
	failed := make([]error, len(found.Places))
	var group guard.Group
	group.SetLimit(askedTogether)
	for i := range found.Places {
		p := &found.Places[i]
		r := &set.Replicas[slices.IndexFunc(set.Replicas, func(r model.Replica) bool { return r.Name == p.Replica })]
		group.Go(func() error {
			rights, err := s.asReplica(ctx, r, p.Place, common, person)
			if err != nil {
				failed[i], p.Problem = err, preflight.Words(err)
				return ctx.Err()
			}
			p.Rights = &rights
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return found, err
	}
	if !slices.Contains(failed, nil) && len(failed) > 0 {
		return found, failed[0]
	}
	found.Same = sameRights(found.Places)
	return found, nil
}

// inSet finds a person among the accounts that the permissions of a set name: those of one of its servers. It is zero where that
// cannot be asked.
func (s *Service) inSet(ctx context.Context, set *model.ReplicaSet, at, person string) (account.SID, error) {
	i := slices.IndexFunc(set.Replicas, func(r model.Replica) bool { return r.Server == set.AccountsOf || set.AccountsOf == "" && r.Seed })
	if i < 0 {
		return account.SID{}, nil
	}
	l, err := s.lookAt(ctx, "path", path.Join(set.Replicas[i].Target().String(), at))
	if err != nil {
		if fault.KindOf(err) == fault.Forbidden {
			return account.SID{}, err
		}
		return account.SID{}, nil
	}
	defer l.close()
	_, sid, err := s.accounts.Find(ctx, l.at, "as", person)
	return sid, err
}

// asReplica tells what somebody may do at a replica: whoever a person of the set is there.
func (s *Service) asReplica(ctx context.Context, r *model.Replica, place string, common account.SID, person string) (rights model.EffectiveRights, err error) {
	l, err := s.lookAt(ctx, "path", place)
	if err != nil {
		return rights, err
	}
	defer l.close()
	sid, err := s.own(ctx, l, r, common, person)
	if err != nil {
		return rights, err
	}
	rights, err = s.effective(ctx, l, s.names(l.at), sid, true)
	if err != nil {
		err = failure(l, "path", err)
	}
	return rights, err
}

// own is the account of a person at a replica: by the account map, as it is, or the one of that name.
func (s *Service) own(ctx context.Context, l *look, r *model.Replica, common account.SID, person string) (account.SID, error) {
	pairs, err := s.db.ReplicaAccounts(ctx, r.ID)
	if err != nil {
		return account.SID{}, err
	}
	if own, paired := pairs[common]; paired {
		return own, nil
	}
	if !common.IsZero() {
		if a, sid, err := s.accounts.Find(ctx, l.at, "as", common.String()); err == nil && a.Kind != account.Unresolved {
			return sid, nil
		}
	}
	_, name, qualified := strings.Cut(person, `\`)
	if !qualified {
		name = person
	}
	_, sid, err := s.accounts.Find(ctx, l.at, "as", name)
	return sid, err
}

// sameRights reports whether all that could be asked grant the same.
func sameRights(places []model.AccessAt) bool {
	first := slices.IndexFunc(places, func(p model.AccessAt) bool { return p.Rights != nil })
	return first >= 0 && !slices.ContainsFunc(places, func(p model.AccessAt) bool {
		return p.Rights != nil && p.Rights.Mask != places[first].Rights.Mask
	})
}
