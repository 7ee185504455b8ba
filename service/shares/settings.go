package shares

import (
	"context"

	"bridgespan/core/acl"
	"bridgespan/model"
)

// Settings tells how a share is set now, and who uses it.
func (s *Service) Settings(ctx context.Context, server, name string) (model.ShareNow, error) {
	j, err := s.existing(ctx, server, name)
	if err != nil {
		return model.ShareNow{}, err
	}
	defer j.close()
	options, err := j.admin.ShareOptions(ctx, j.Share.Name)
	if err != nil {
		return model.ShareNow{}, j.failure(err)
	}
	if err := j.users(ctx); err != nil {
		return model.ShareNow{}, j.failure(err)
	}
	now := model.ShareNow{Server: j.server.Name, Name: j.Share.Name, Note: j.Share.Note, Path: j.Share.Path, Uses: int(j.Share.Uses),
		HideUnreadable: options.HideUnreadable, Encrypt: options.Encrypt, Offline: string(options.Offline), Connected: j.plan.Connected, Access: []model.ShareGrant{}}
	p := j.Share.Permissions.Parts()
	words, err := j.rights.Words(ctx, j.at, p, acl.OnShare)
	if err != nil {
		return now, j.failure(err)
	}
	for _, e := range words.Entries {
		level := e.Level
		if !e.Allow {
			level = acl.None
		}
		now.Access = append(now.Access, model.ShareGrant{Account: e.Account.Name, Level: level})
	}
	return now, nil
}
