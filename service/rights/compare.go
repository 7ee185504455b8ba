package rights

import (
	"context"
	"iter"
	"path"
	"slices"
	"sync/atomic"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/model"
	"bridgespan/tree"
)

// mostDifferences bounds what a comparison shows.
const mostDifferences = 500

// Compare tells how the permissions of two places differ: of the two alone, or
// of everything below them as well.
func (s *Service) Compare(ctx context.Context, first, second string, deep bool) (model.RightsComparison, error) {
	c := model.RightsComparison{Differences: []model.RightsDifference{}}
	a, err := s.lookAt(ctx, "first", first)
	if err != nil {
		return c, err
	}
	defer a.close()
	b, err := s.lookAt(ctx, "second", second)
	if err != nil {
		return c, err
	}
	defer b.close()
	c.First, c.Second = a.Place, b.Place
	var looked atomic.Int64
	n := s.names(a.at)
	if c.Share, err = s.shareShifts(ctx, n, a, b); err != nil {
		return c, failure(a, "first", err)
	}
	for d, err := range acl.CompareTrees(nodes(ctx, a, deep, &looked), nodes(ctx, b, deep, nil)) {
		if err != nil {
			return c, failure(a, "first", err)
		}
		if len(c.Differences) == mostDifferences {
			c.More = true
			break
		}
		difference, err := s.difference(ctx, n, b, d)
		if err != nil {
			return c, failure(a, "first", err)
		}
		c.Differences = append(c.Differences, difference)
	}
	c.Looked = looked.Load()
	return c, nil
}

// shareShifts tells who comes through the shares of two places differently.
func (s *Service) shareShifts(ctx context.Context, n *names, a, b *look) ([]model.RightsShift, error) {
	var first, second acl.Parts // without a list everybody comes through
	if p := a.shareParts(); p != nil {
		first = *p
	}
	if p := b.shareParts(); p != nil {
		second = *p
	}
	return s.shifts(ctx, n, acl.Compare(first, second), true)
}

func (s *Service) difference(ctx context.Context, n *names, second *look, d acl.TreeDifference) (model.RightsDifference, error) {
	shown := model.RightsDifference{Path: d.Path, Folder: d.Folder, First: d.Before.String(), Second: d.After.String()}
	switch {
	case d.Before.IsZero():
		shown.Only = "second"
	case d.After.IsZero():
		shown.Only = "first"
	}
	var err error
	shown.Shifts, err = s.shifts(ctx, n, d.Shifts, d.Folder)
	if err == nil && n.at.Server.Name != second.server.Name {
		err = s.nameElsewhere(ctx, second, shown.Shifts)
	}
	return shown, err
}

// nameElsewhere names those accounts that only the second server can name.
func (s *Service) nameElsewhere(ctx context.Context, l *look, shifts []model.RightsShift) error {
	for i, shift := range shifts {
		if shift.Account.Kind != account.Unresolved {
			continue
		}
		sid, err := account.ParseSID(shift.Account.SID)
		if err != nil {
			return err
		}
		named, err := s.accounts.Named(ctx, l.at, []account.SID{sid})
		if err != nil {
			return err
		}
		shifts[i].Account = named[0]
	}
	return nil
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

// nodes yields a place, and everything below it when deep, in the order of
// acl.PathOrder. It counts what it yields, when looked is not nil.
func nodes(ctx context.Context, l *look, deep bool, looked *atomic.Int64) iter.Seq2[acl.Node, error] {
	return func(yield func(acl.Node, error) bool) {
		count := func(node acl.Node) bool {
			if looked != nil {
				looked.Add(1)
			}
			return yield(node, nil)
		}
		d, err := l.own().Descriptor()
		if err != nil {
			yield(acl.Node{}, err)
			return
		}
		if !count(acl.Node{Path: ".", Folder: l.Folder, Descriptor: d}) || !deep || !l.Folder {
			return
		}
		walk(ctx, l, ".", count, func(err error) { yield(acl.Node{}, err) })
	}
}

// walk goes through a folder in order, each folder before what it holds, and
// reports whether to go on.
func walk(ctx context.Context, l *look, folder string, found func(acl.Node) bool, failed func(error)) bool {
	var list []acl.Node
	for e, err := range l.tree.List(ctx, path.Join(l.inside(), folder), tree.WithDescriptors) {
		if err != nil {
			failed(err)
			return false
		}
		if !tree.Reserved(e.Name) {
			list = append(list, acl.Node{Path: path.Join(folder, e.Name), Folder: e.Kind == tree.Folder, Descriptor: e.Descriptor})
		}
	}
	slices.SortFunc(list, func(a, b acl.Node) int { return acl.PathOrder(a.Path, b.Path) })
	for _, node := range list {
		if !found(node) {
			return false
		}
		if node.Folder && !walk(ctx, l, node.Path, found, failed) {
			return false
		}
	}
	return true
}
