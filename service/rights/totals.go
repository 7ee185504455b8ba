package rights

import (
	"cmp"
	"context"
	"slices"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/model"
)

// Bounds of what totals remember and show.
const (
	mostTotals  = 10000
	shownTotals = 200
)

// totals counts what a comparison found. It is kept as JSON while the
// comparison is stopped.
type totals struct {
	Looked     int64                      `json:"looked"`
	Differ     int64                      `json:"differ"`
	OnlyFirst  int64                      `json:"onlyFirst"`
	OnlySecond int64                      `json:"onlySecond"`
	Unreadable int64                      `json:"unreadable"`
	Shifts     map[account.SID]gainsLoses `json:"shifts"`
}

type gainsLoses struct {
	Gains int64 `json:"g"`
	Loses int64 `json:"l"`
}

// add counts what two trees have at one path.
func (t *totals) add(p acl.Pair) {
	t.Looked++
	switch {
	case p.Same():
	case p.Unread != "":
		t.Unreadable++
	case p.Before.IsZero():
		t.OnlySecond++
	case p.After.IsZero():
		t.OnlyFirst++
	default:
		t.Differ++
	}
	if t.Shifts == nil {
		t.Shifts = map[account.SID]gainsLoses{}
	}
	for _, shift := range p.Shifts {
		known, ok := t.Shifts[shift.Account]
		if !ok && len(t.Shifts) >= mostTotals {
			continue
		}
		if shift.Gained() != 0 {
			known.Gains++
		}
		if shift.Lost() != 0 {
			known.Loses++
		}
		t.Shifts[shift.Account] = known
	}
}

// found is how many paths are not the same.
func (t *totals) found() int64 { return t.Differ + t.OnlyFirst + t.OnlySecond + t.Unreadable }

// concerned are the accounts that gain or lose, those on most paths first.
func (t *totals) concerned() []account.SID {
	sids := make([]account.SID, 0, len(t.Shifts))
	for sid := range t.Shifts {
		sids = append(sids, sid)
	}
	weight := func(s account.SID) int64 { return t.Shifts[s].Gains + t.Shifts[s].Loses }
	slices.SortFunc(sids, func(a, b account.SID) int {
		return cmp.Or(cmp.Compare(weight(b), weight(a)), cmp.Compare(a.String(), b.String()))
	})
	return sids[:min(len(sids), shownTotals)]
}

// count writes what was counted so far into a comparison.
func (b *both) count(ctx context.Context, c *model.RightsComparison, t *totals) error {
	c.Looked, c.Differ, c.OnlyFirst, c.OnlySecond, c.Unreadable = t.Looked, t.Differ, t.OnlyFirst, t.OnlySecond, t.Unreadable
	sids := t.concerned()
	if err := b.names.learn(ctx, sids...); err != nil {
		return err
	}
	c.Accounts = make([]model.RightsTotal, 0, len(sids))
	for _, sid := range sids {
		named, err := b.name(ctx, sid)
		if err != nil {
			return err
		}
		c.Accounts = append(c.Accounts, model.RightsTotal{Account: named, Gains: t.Shifts[sid].Gains, Loses: t.Shifts[sid].Loses})
	}
	return nil
}
