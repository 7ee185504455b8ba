package rights

import (
	"context"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/model"
)

// both are two places that are compared.
type both struct {
	s             *Service
	first, second *look
	names         *names
}

// lookAtBoth opens two places. The caller must close what it gets.
func (s *Service) lookAtBoth(ctx context.Context, first, second string) (*both, error) {
	a, err := s.lookAt(ctx, "first", first)
	if err != nil {
		return nil, err
	}
	b, err := s.lookAt(ctx, "second", second)
	if err != nil {
		a.close()
		return nil, err
	}
	return &both{s, a, b, s.names(a.at)}, nil
}

func (b *both) close() {
	b.first.close()
	b.second.close()
}

// Compare tells how the permissions of two places differ, and nothing about
// what is below them.
func (s *Service) Compare(ctx context.Context, first, second string) (model.RightsComparison, error) {
	b, err := s.lookAtBoth(ctx, first, second)
	if err != nil {
		return model.RightsComparison{}, err
	}
	defer b.close()
	c, err := b.begin(ctx)
	if err != nil {
		return c, failure(b.first, "first", err)
	}
	pair := acl.Pair{Path: ".", Folder: b.first.Folder, Before: descriptorOf(b.first.own()), After: descriptorOf(b.second.own())}
	pair.Shifts = acl.Compare(b.first.own(), b.second.own())
	var t totals
	t.add(pair)
	if !pair.Same() {
		d, err := b.difference(ctx, pair)
		if err != nil {
			return c, failure(b.first, "first", err)
		}
		c.Differences = append(c.Differences, d)
	}
	if err := b.count(ctx, &c, &t); err != nil {
		return c, failure(b.first, "first", err)
	}
	return c, nil
}

// begin tells who comes through the shares of the two places differently.
func (b *both) begin(ctx context.Context) (model.RightsComparison, error) {
	c := model.RightsComparison{First: b.first.Place, Second: b.second.Place, Accounts: []model.RightsTotal{}, Differences: []model.RightsDifference{}}
	var first, second acl.Parts // without a list everybody comes through
	if p := b.first.shareParts(); p != nil {
		first = *p
	}
	if p := b.second.shareParts(); p != nil {
		second = *p
	}
	var err error
	c.Share, err = b.shifts(ctx, acl.Compare(first, second), true)
	return c, err
}

// difference puts what differs at one path in words.
func (b *both) difference(ctx context.Context, p acl.Pair) (model.RightsDifference, error) {
	shown := model.RightsDifference{Path: p.Path, Folder: p.Folder, First: p.Before.String(), Second: p.After.String()}
	switch {
	case p.Unread != "":
		shown.Unread = p.Unread
	case p.Before.IsZero():
		shown.Only = "second"
	case p.After.IsZero():
		shown.Only = "first"
	}
	var err error
	shown.Shifts, err = b.shifts(ctx, p.Shifts, p.Folder)
	return shown, err
}

// shifts names who gains and loses, by the names of either server.
func (b *both) shifts(ctx context.Context, list []acl.Shift, folder bool) ([]model.RightsShift, error) {
	shown, err := b.s.shifts(ctx, b.names, list, folder)
	if err != nil {
		return nil, err
	}
	for i := range shown {
		if shown[i].Account, err = b.name(ctx, list[i].Account); err != nil {
			return nil, err
		}
	}
	return shown, nil
}

// name names an account, as the second server does when the first one cannot.
func (b *both) name(ctx context.Context, sid account.SID) (model.Account, error) {
	if err := b.names.learn(ctx, sid); err != nil {
		return model.Account{}, err
	}
	a := b.names.of(sid)
	if a.Kind != account.Unresolved || b.first.server.Name == b.second.server.Name || b.second.at == nil {
		return a, nil
	}
	named, err := b.s.accounts.Named(ctx, b.second.at, []account.SID{sid})
	if err != nil {
		return a, err
	}
	b.names.known[sid] = named[0]
	return named[0], nil
}

// shifts names who gains and loses.
func (s *Service) shifts(ctx context.Context, n *names, list []acl.Shift, folder bool) ([]model.RightsShift, error) {
	shown := []model.RightsShift{}
	var sids []account.SID
	for _, shift := range list {
		sids = append(sids, shift.Account)
	}
	if err := n.learn(ctx, sids...); err != nil {
		return nil, err
	}
	for _, shift := range list {
		s := model.RightsShift{Account: n.of(shift.Account), Before: shift.Before.Level(), After: shift.After.Level()}
		if s.Before == s.After || s.Before == acl.Unusual || s.After == acl.Unusual { // the levels do not say it all
			s.Gains, s.Loses = shift.Gained().Words(folder), shift.Lost().Words(folder)
		}
		shown = append(shown, s)
	}
	return shown, nil
}
