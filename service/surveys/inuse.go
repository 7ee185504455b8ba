package surveys

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"slices"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/model"
	"bridgespan/service/accounts"
	"bridgespan/smbadmin"
	"bridgespan/tree"
)

// mostAccounts is how many accounts a survey lists.
const mostAccounts = 2000

// accountsIn are the accounts that permissions name, with the members of local groups.
func (s *Service) accountsIn(ctx context.Context, at *accounts.At, known map[account.SID]model.Account, seen []*seen, share acl.Descriptor) ([]model.SurveyedAccount, error) {
	uses := map[account.SID]*model.SurveyedAccount{}
	use := func(sid account.SID) *model.SurveyedAccount {
		if uses[sid] == nil {
			a := known[sid]
			uses[sid] = &model.SurveyedAccount{Account: a, Reach: account.Beyond(a.Kind, a.Origin), BuiltIn: sid.In(account.Builtin)}
		}
		return uses[sid]
	}
	for _, d := range seen {
		for _, sid := range d.descriptor.Parts().Accounts() {
			u := use(sid)
			u.Files, u.Folders, u.Sample = u.Files+d.files, u.Folders+d.folders, cmp.Or(u.Sample, d.sample)
		}
	}
	if !share.IsZero() {
		for _, sid := range share.Parts().Accounts() {
			use(sid).OnShare = true
		}
	}
	list := []model.SurveyedAccount{}
	for sid, u := range uses {
		if u.Kind == account.LocalGroup {
			members, err := s.accounts.Members(ctx, at, sid, u.Kind)
			if err != nil {
				return list, err
			}
			for _, m := range members {
				u.Members = append(u.Members, m.Name)
			}
			slices.Sort(u.Members)
		}
		list = append(list, *u)
	}
	slices.SortFunc(list, func(a, b model.SurveyedAccount) int {
		return cmp.Or(cmp.Compare(b.Files+b.Folders, a.Files+a.Folders), cmp.Compare(a.Name, b.Name))
	})
	return list[:min(len(list), mostAccounts)], nil
}

// settings are those of a share; nil where a mover runs.
func (s *Service) settings(ctx context.Context, at *accounts.At, known map[account.SID]model.Account, h smbadmin.Share, t tree.Tree) (*model.SurveyedShare, error) {
	if at.Admin == nil {
		return nil, nil
	}
	options, err := at.Admin.ShareOptions(ctx, h.Name)
	if err != nil && !errors.Is(err, fs.ErrPermission) && !errors.Is(err, smbadmin.ErrNotOffered) {
		return nil, err
	}
	space, err := t.Space(ctx)
	if err != nil {
		return nil, err
	}
	set := &model.SurveyedShare{Note: h.Note, Path: h.Path, HideUnreadable: options.HideUnreadable, Encrypt: options.Encrypt, Offline: string(options.Offline),
		Access: []model.ShareGrant{}, Total: space.Total, Free: space.Free}
	if h.MaxUses != smbadmin.NoLimit {
		set.MaxUses = int64(h.MaxUses)
	}
	if h.Permissions.IsZero() {
		return set, nil
	}
	for _, e := range h.Permissions.Parts().Entries() {
		level := e.Mask.Level()
		if e.Type == acl.Deny {
			level = acl.None
		}
		set.Access = append(set.Access, model.ShareGrant{Account: known[e.Account].Name, Level: level})
	}
	return set, nil
}
