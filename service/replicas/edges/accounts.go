package edges

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"bridgespan/core/account"
	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/service/accounts"
	"bridgespan/service/jobs"
	"bridgespan/service/replicas/sets"
	"bridgespan/tree"
)

// AccountsKind is the kind of runs that find the accounts which permissions of a set name.
const AccountsKind = "account-uses"

// mostUsed is how many accounts are told.
const mostUsed = 2000

// usesSettings of a run.
type usesSettings struct {
	Set string `json:"set"`
}

// FindAccounts starts a run that finds the accounts which the permissions of a set name.
func (s *Edges) FindAccounts(ctx context.Context, name string) (u model.AccountUses, err error) {
	set, err := s.DB.ReplicaSet(ctx, name)
	if err != nil {
		return u, err
	}
	if _, err := s.readable(ctx, &set); err != nil {
		return u, err
	}
	id, err := s.Runs.Start(ctx, AccountsKind, set.Name, usesSettings{set.Name})
	if err != nil {
		return u, err
	}
	return s.AccountUses(ctx, id)
}

// AccountUses shows such a run.
func (s *Edges) AccountUses(ctx context.Context, id int64) (u model.AccountUses, err error) {
	u.Accounts = []model.AccountUse{}
	var asked usesSettings
	u.Run, err = s.Runs.Read(ctx, id, AccountsKind, &asked, &u)
	u.Set = asked.Set
	return u, err
}

// LatestAccountUses lists the latest of such runs of a set, newest first.
func (s *Edges) LatestAccountUses(ctx context.Context, name string, limit int) ([]model.AccountUses, error) {
	set, err := s.DB.ReplicaSet(ctx, name)
	if err != nil {
		return nil, err
	}
	runs, err := s.Runs.List(ctx, AccountsKind, set.Name, 0, limit)
	list := []model.AccountUses{}
	for _, r := range runs {
		u, bad := s.AccountUses(ctx, r.ID)
		if bad != nil {
			return nil, bad
		}
		list = append(list, u)
	}
	return list, err
}

// readable is the replica whose permissions are read: the seed, or another one at a file server.
func (s *Edges) readable(ctx context.Context, set *model.ReplicaSet) (*model.Replica, error) {
	var found *model.Replica
	for i := range set.Replicas {
		if r := &set.Replicas[i]; !s.WithoutAccounts(ctx, r.Server) && (found == nil || r.Seed) {
			found = r
		}
	}
	if found == nil {
		return nil, fault.New(fault.Needed, "keep a replica at a file server as well", "no replica of %s is at a file server, whose permissions could be read", set.Name)
	}
	return found, nil
}

// used is an account with the files and folders whose permissions name it.
type used struct {
	sid     account.SID
	uses    int64
	example string
}

// findAccounts does a run.
func (s *Edges) findAccounts(ctx context.Context, j *jobs.Job) error {
	var asked usesSettings
	if err := j.Settings(&asked); err != nil {
		return err
	}
	set, err := s.DB.ReplicaSet(ctx, asked.Set)
	if err != nil {
		return err
	}
	r, err := s.readable(ctx, &set)
	if err != nil {
		return err
	}
	u := model.AccountUses{Read: r.Name, Accounts: []model.AccountUse{}}
	met, err := s.meet(ctx, j, r, &u)
	if err != nil {
		return s.Explain(ctx, r.Server, err)
	}
	for _, m := range met {
		u.Accounts = append(u.Accounts, model.AccountUse{SID: m.sid.String(), Name: m.sid.String(), Uses: m.uses, Example: m.example, There: []model.AccountSeenAt{}})
	}
	seen := make([][]account.Sight, len(met))
	for i := range set.Replicas {
		if err := s.see(ctx, &set, &set.Replicas[i], met, &u, seen); err != nil {
			u.Missing = append(u.Missing, fmt.Sprintf("%s: %s", set.Replicas[i].Name, sets.Words(err)))
		}
	}
	for i := range u.Accounts {
		a := &u.Accounts[i]
		a.Reach = account.ReachOf(seen[i])
		explain(a, set.Permissions)
	}
	slices.SortStableFunc(u.Accounts, func(a, b model.AccountUse) int {
		if d := slices.Index(worstFirst, a.Reach) - slices.Index(worstFirst, b.Reach); d != 0 {
			return d
		}
		return strings.Compare(a.Name, b.Name)
	})
	return j.Finish(u)
}

var worstFirst = []account.Reach{account.ReachNone, account.ReachLocal, account.ReachMapped, account.ReachEverywhere}

// meet reads the permissions of a replica, and collects the accounts that they name, as the set has them.
func (s *Edges) meet(ctx context.Context, j *jobs.Job, r *model.Replica, u *model.AccountUses) (met []used, err error) {
	t, err := s.OpenReplica(ctx, r)
	if err != nil {
		return nil, err
	}
	defer t.Close()
	at := map[account.SID]int{}
	for e, err := range tree.Walk(ctx, t, ".", tree.WithDescriptors) {
		if err != nil {
			return nil, err
		}
		u.Looked++
		if u.Looked%1000 == 0 {
			j.Progress(u.Looked, 0, float64(u.Looked)/float64(max(r.Entries, u.Looked+1)))
		}
		if e.Descriptor.IsZero() {
			continue
		}
		for _, sid := range e.Descriptor.Parts().Accounts() {
			i, known := at[sid]
			if !known {
				if len(met) == mostUsed {
					u.More = true
					continue
				}
				i, at[sid] = len(met), len(met)
				met = append(met, used{sid: sid, example: e.Path})
			}
			met[i].uses++
		}
	}
	return met, nil
}

// see asks the server of a replica how it sees the accounts.
func (s *Edges) see(ctx context.Context, set *model.ReplicaSet, r *model.Replica, met []used, u *model.AccountUses, seen [][]account.Sight) error {
	server := s.AccountsAt(ctx, r.Server)
	if server == "" { // a bucket: nobody signs in there
		return nil
	}
	pairs, err := s.DB.ReplicaAccounts(ctx, r.ID)
	if err != nil {
		return err
	}
	sids := make([]account.SID, len(met))
	for i, m := range met {
		sids[i] = m.sid
		if other, ok := pairs[m.sid]; ok {
			sids[i] = other
		}
	}
	var named []model.Account
	err = s.People.With(ctx, server, func(at *accounts.At) (err error) {
		named, err = s.People.Named(ctx, at, sids)
		return err
	})
	if err != nil {
		return err
	}
	for i, a := range named {
		sight := account.Sight{Known: a.Kind != account.Unresolved, Paired: sids[i] != met[i].sid}
		seen[i] = append(seen[i], sight)
		use := &u.Accounts[i]
		use.There = append(use.There, model.AccountSeenAt{Replica: r.Name, Server: server, Name: a.Name, Known: sight.Known, Paired: sight.Paired})
		if sight.Known && !sight.Paired && (use.Name == use.SID || server == set.AccountsOf) {
			use.Name = a.Name
		}
	}
	return nil
}

// explain says what follows for people, and what to do about it.
func explain(a *model.AccountUse, permissions string) {
	var without []string
	for _, t := range a.There {
		if !t.Known {
			without = append(without, t.Replica)
		}
	}
	at := strings.Join(without, ", ")
	switch a.Reach {
	case account.ReachNone:
		a.Effect = "its entries are a bare SID at all servers and grant nothing"
		a.Remedy = "remove its entries; it was deleted, or belongs to an unknown server"
	case account.ReachLocal:
		a.Effect = "its entries are a bare SID at " + at + " and grant nothing there"
		a.Remedy = "use a domain group that all servers resolve, or set the permissions at " + at + " by hand"
		if permissions == model.PermissionsMap {
			a.Remedy = "add it to the account map, " + a.Remedy
		} else {
			a.Remedy = "map accounts with an account map, " + a.Remedy
		}
	case account.ReachMapped:
		a.Effect = "the mapped account has its permissions"
	}
}
