package migrations

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"bridgespan/core/account"
	"bridgespan/model"
)

// Accounts are those in the permissions of the surveyed shares, per server: those first that another server does not know.
func (s *Service) Accounts(ctx context.Context, name string) ([]model.MigrationAccount, error) {
	m, err := s.Get(ctx, name)
	if err != nil {
		return nil, err
	}
	return s.accounts(ctx, &m)
}

func (s *Service) accounts(ctx context.Context, m *model.Migration) ([]model.MigrationAccount, error) {
	type key struct{ server, sid string }
	found := map[key]*model.MigrationAccount{}
	err := s.each(ctx, m, func(h *model.MigrationShare, v model.Survey) error {
		for _, a := range v.Accounts {
			k := key{h.Server, a.SID}
			u := found[k]
			if u == nil {
				found[k] = &model.MigrationAccount{SurveyedAccount: a, Server: h.Server, Shares: []string{h.Share}}
				continue
			}
			u.Files, u.Folders, u.OnShare, u.Shares = u.Files+a.Files, u.Folders+a.Folders, u.OnShare || a.OnShare, append(u.Shares, h.Share)
		}
		return nil
	})
	list := []model.MigrationAccount{}
	for _, u := range found {
		list = append(list, *u)
	}
	slices.SortFunc(list, func(a, b model.MigrationAccount) int {
		return cmp.Or(cmp.Compare(order[a.Reach], order[b.Reach]), strings.Compare(a.Server, b.Server), cmp.Compare(b.Files+b.Folders, a.Files+a.Folders), strings.Compare(a.Name, b.Name))
	})
	return list, err
}

var order = map[account.Reach]int{account.ReachNone: 0, account.ReachLocal: 1, account.ReachEverywhere: 2}
