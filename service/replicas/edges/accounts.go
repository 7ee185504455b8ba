package edges

import (
	"cmp"
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

// findAccounts does a run.
func (s *Edges) findAccounts(ctx context.Context, j *jobs.Job) error {
	var settings usesSettings
	if err := j.Settings(&settings); err != nil {
		return err
	}
	set, err := s.DB.ReplicaSet(ctx, settings.Set)
	if err != nil {
		return err
	}
	r, err := s.readable(ctx, &set)
	if err != nil {
		return err
	}
	t, err := s.OpenReplica(ctx, r)
	if err != nil {
		return s.Explain(ctx, r.Server, err)
	}
	defer t.Close()
	l := &accountLister{Edges: s, set: &set, result: model.AccountUses{Read: r.Name, Accounts: []model.AccountUse{}}}
	err = l.collect(ctx, t, func(done int64) { j.Progress(done, 0, float64(done)/float64(max(r.Entries, done+1))) })
	if err != nil {
		return s.Explain(ctx, r.Server, err)
	}
	for i := range set.Replicas {
		if err := l.resolveAt(ctx, &set.Replicas[i]); err != nil {
			l.result.Missing = append(l.result.Missing, fmt.Sprintf("%s: %s", set.Replicas[i].Name, sets.Words(err)))
		}
	}
	return j.Finish(l.finish())
}

// accountLister lists the accounts of one set.
type accountLister struct {
	*Edges
	set    *model.ReplicaSet
	uses   sets.AccountUses
	sights [][]account.Sight // by account, then by replica
	result model.AccountUses
}

// collect reads all permissions of a replica. They name accounts as the set does.
func (l *accountLister) collect(ctx context.Context, t tree.Tree, progress func(done int64)) error {
	for e, err := range tree.Entries(ctx, t, ".", tree.WithDescriptors) {
		if err != nil {
			return err
		}
		if e.Unread != nil {
			l.result.Unread++
			continue
		}
		l.uses.Add(e.Descriptor, e.Path)
		if l.result.Looked++; l.result.Looked%1000 == 0 {
			progress(l.result.Looked)
		}
	}
	l.result.More = l.uses.More
	l.sights = make([][]account.Sight, len(l.uses.List))
	for _, use := range l.uses.List {
		sid := use.SID.String()
		l.result.Accounts = append(l.result.Accounts, model.AccountUse{SID: sid, Name: sid, Uses: use.Items, Example: use.Example, There: []model.AccountSeenAt{}})
	}
	return nil
}

// resolveAt lets the server of a replica resolve the accounts. A bucket has no accounts.
func (l *accountLister) resolveAt(ctx context.Context, r *model.Replica) error {
	server := l.AccountsAt(ctx, r.Server)
	if server == "" {
		return nil
	}
	pairs, err := l.DB.ReplicaAccounts(ctx, r.ID)
	if err != nil {
		return err
	}
	sids := make([]account.SID, len(l.uses.List))
	for i, use := range l.uses.List {
		sids[i] = use.SID
		if other, ok := pairs[use.SID]; ok {
			sids[i] = other
		}
	}
	var named []model.Account
	err = l.People.With(ctx, server, func(at *accounts.At) (err error) {
		named, err = l.People.Named(ctx, at, sids)
		return err
	})
	if err != nil {
		return err
	}
	for i, a := range named {
		l.resolved(i, model.AccountSeenAt{Replica: r.Name, Server: server, Name: a.Name, Known: a.Kind != account.Unresolved, Paired: sids[i] != l.uses.List[i].SID})
	}
	return nil
}

// resolved notes how a server resolves an account.
func (l *accountLister) resolved(i int, at model.AccountSeenAt) {
	l.sights[i] = append(l.sights[i], account.Sight{Known: at.Known, Paired: at.Paired})
	use := &l.result.Accounts[i]
	use.There = append(use.There, at)
	if at.Known && !at.Paired && (use.Name == use.SID || at.Server == l.set.AccountsOf) {
		use.Name = at.Name
	}
}

// finish returns the list. Accounts that a server cannot resolve come first.
func (l *accountLister) finish() model.AccountUses {
	for i := range l.result.Accounts {
		a := &l.result.Accounts[i]
		a.Reach = account.ReachOf(l.sights[i])
		explain(a, l.set.Permissions)
	}
	slices.SortStableFunc(l.result.Accounts, func(a, b model.AccountUse) int {
		return cmp.Or(slices.Index(worstFirst, a.Reach)-slices.Index(worstFirst, b.Reach), strings.Compare(a.Name, b.Name))
	})
	return l.result
}

var worstFirst = []account.Reach{account.ReachNone, account.ReachLocal, account.ReachMapped, account.ReachEverywhere}

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
