package sets

import (
	"cmp"
	"context"
	"log/slog"
	"maps"
	"slices"

	"bridgespan/core/account"
	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/mover/compare"
	"bridgespan/service/accounts"
	"bridgespan/tree"
)

// OpenReplica opens a replica. Its permissions name the accounts as the set does.
func (s *Base) OpenReplica(ctx context.Context, r *model.Replica) (tree.Tree, error) {
	pairs, err := s.DB.ReplicaAccounts(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	if err := s.SetEdge(ctx, r); err != nil {
		return nil, err
	}
	t, err := s.Open(ctx, r.Target())
	if err != nil {
		return nil, err
	}
	return compare.InAccounts(t, pairs), nil
}

// SetEdge lets the mover of an edge fill its stubs, where it has any or may have some, and upload its files.
func (s *Base) SetEdge(ctx context.Context, r *model.Replica) error {
	if r.Edge.HasStubs() || r.EdgeFigures != nil && r.EdgeFigures.Stubs > 0 {
		return s.Estate.SetEdge(ctx, r.Target(), r.Hub, r.Edge)
	}
	if err := s.Estate.LetUpload(ctx, r.Target(), r.Hub); err != nil {
		slog.Info("files of a replica pass through the service: its mover does not open the bucket", "replica", r.Name, "server", r.Server, "error", err)
	}
	return nil
}

// PairUp finds out what the accounts of a set are at its new replicas.
func (s *Base) PairUp(ctx context.Context, set *model.ReplicaSet) error {
	for i := range set.Replicas {
		r := &set.Replicas[i]
		if set.Permissions != model.PermissionsMap || r.ID != 0 {
			continue
		}
		other := s.AccountsAt(ctx, r.Server)
		if other == "" || other == set.AccountsOf {
			continue
		}
		err := s.pairs(ctx, *set, other, func(p *accounts.Paired) error {
			r.Accounts = p.Pairs
			return nil
		})
		if err != nil {
			return fault.At(Field(i, "server"), err)
		}
	}
	return nil
}

// pairs asks the server whose accounts a set has, and another one, which of
// their accounts the map takes for the same.
func (s *Base) pairs(ctx context.Context, set model.ReplicaSet, other string, do func(*accounts.Paired) error) error {
	return s.People.With(ctx, set.AccountsOf, func(one *accounts.At) error {
		return s.People.With(ctx, other, func(another *accounts.At) error {
			p, err := s.People.Pair(ctx, set.AccountMap, one, another)
			if err != nil {
				return err
			}
			return do(p)
		})
	})
}

// mapped returns a fault unless a set has its account map, when it needs one.
func (s *Base) mapped(ctx context.Context, set *model.ReplicaSet) error {
	if set.Permissions != model.PermissionsMap {
		if set.AccountMap != "" {
			return fault.Field("accountMap", "leave it out, or carry permissions through it: permissions map", "permissions are not carried through an account map")
		}
		return nil
	}
	if set.AccountMap == "" {
		return fault.Field("accountMap", "name an account map; list them with: bspan account map list", "permissions cannot be carried through no account map")
	}
	m, err := s.DB.AccountMap(ctx, set.AccountMap)
	if err != nil {
		return fault.At("accountMap", err)
	}
	set.AccountMap = m.Name
	seed := set.Replicas[slices.IndexFunc(set.Replicas, func(r model.Replica) bool { return r.Seed })].Server
	if set.AccountsOf = s.AccountsAt(ctx, seed); set.AccountsOf == "" {
		return fault.Field("permissions", "make a file server the seed, or carry permissions as they are: permissions carry", "%s, the seed's, has no accounts to be paired with others", seed)
	}
	return nil
}

// Accounts tells what the accounts of a set's permissions are at each replica.
func (s *Base) Accounts(ctx context.Context, name string) ([]model.ReplicaAccounts, error) {
	list := []model.ReplicaAccounts{}
	set, err := s.DB.ReplicaSet(ctx, name)
	if err != nil {
		return list, err
	}
	if set.Permissions != model.PermissionsMap {
		return list, fault.New(fault.Needed, "make a set that does: bspan replica plan --permissions map", "%s does not carry permissions through an account map", set.Name)
	}
	for _, r := range set.Replicas {
		told := model.ReplicaAccounts{Replica: r.Name, Server: r.Server, Pairs: []model.AccountPair{}}
		if other := s.AccountsAt(ctx, r.Server); other != "" && other != set.AccountsOf {
			if err := s.tellAccounts(ctx, set, r, other, &told); err != nil {
				return list, err
			}
		}
		list = append(list, told)
	}
	return list, nil
}

func (s *Base) tellAccounts(ctx context.Context, set model.ReplicaSet, r model.Replica, server string, told *model.ReplicaAccounts) error {
	pairs, err := s.DB.ReplicaAccounts(ctx, r.ID)
	if err != nil {
		return err
	}
	return s.People.With(ctx, set.AccountsOf, func(one *accounts.At) error {
		return s.People.With(ctx, server, func(other *accounts.At) error {
			p, err := s.People.Pair(ctx, set.AccountMap, one, other)
			if err != nil {
				return err
			}
			told.Stale = !maps.Equal(p.Pairs, pairs)
			var ours, theirs []account.SID
			for _, common := range slices.SortedFunc(maps.Keys(pairs), func(a, b account.SID) int { return cmp.Compare(a.String(), b.String()) }) {
				ours, theirs = append(ours, common), append(theirs, pairs[common])
			}
			first, err := s.People.Named(ctx, one, ours)
			if err != nil {
				return err
			}
			second, err := s.People.Named(ctx, other, theirs)
			for i := range second {
				told.Pairs = append(told.Pairs, model.AccountPair{One: first[i], Other: second[i]})
			}
			return err
		})
	})
}

// OtherPairs are the pairs of accounts at replicas where they are others by now, by
// the names of replicas.
func (s *Base) OtherPairs(ctx context.Context, set *model.ReplicaSet) (map[string]map[account.SID]account.SID, error) {
	other := map[string]map[account.SID]account.SID{}
	for _, r := range set.Replicas {
		at := s.AccountsAt(ctx, r.Server)
		if at == "" || at == set.AccountsOf {
			continue
		}
		was, err := s.DB.ReplicaAccounts(ctx, r.ID)
		if err != nil {
			return nil, err
		}
		err = s.pairs(ctx, *set, at, func(p *accounts.Paired) error {
			if !maps.Equal(was, p.Pairs) {
				other[r.Name] = p.Pairs
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return other, nil
}
