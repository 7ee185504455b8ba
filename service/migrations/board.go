package migrations

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
)

// List lists migrations with their totals, by name.
func (s *Service) List(ctx context.Context, page records.Page) ([]model.Migration, error) {
	list, err := s.db.Migrations(ctx, page)
	for i := range list {
		if err == nil {
			err = s.complete(ctx, &list[i])
		}
	}
	return list, err
}

// Get shows a migration, with the latest survey of each of its shares.
func (s *Service) Get(ctx context.Context, name string) (model.Migration, error) {
	m, err := s.db.Migration(ctx, name)
	if err == nil {
		err = s.complete(ctx, &m)
	}
	return m, err
}

// complete adds the shares of a migration, and what was found in them.
func (s *Service) complete(ctx context.Context, m *model.Migration) error {
	if err := s.addShares(ctx, m); err != nil {
		return err
	}
	for i := range m.Shares {
		h := &m.Shares[i]
		if err := s.surveyed(ctx, h); err != nil {
			return err
		}
		addTo(&m.Totals, h)
	}
	return nil
}

// addShares adds the shares of the sources.
func (s *Service) addShares(ctx context.Context, m *model.Migration) error {
	m.Shares = []model.MigrationShare{}
	for _, source := range m.Sources {
		server, only, _ := strings.Cut(source, "/")
		known, err := s.db.Shares(ctx, server)
		if err != nil {
			return err
		}
		found := false
		for _, h := range known {
			if only == "" || namespace.Key(h.Name) == namespace.Key(only) {
				found = true
				m.Shares = append(m.Shares, model.MigrationShare{Server: h.Server, Share: h.Name, Left: leftBecause(&m.MigrationDraft, h, only != ""), Folder: folderOf(&m.MigrationDraft, h)})
			}
		}
		if !found {
			m.Missing = append(m.Missing, source+": "+map[bool]string{true: "the server has no such share any more", false: "its shares were never listed"}[only != ""])
		}
	}
	slices.SortStableFunc(m.Shares, func(a, b model.MigrationShare) int {
		return cmp.Or(strings.Compare(a.Server, b.Server), strings.Compare(strings.ToLower(a.Share), strings.ToLower(b.Share)))
	})
	return nil
}

// leftBecause is why a share stays where it is; "" when it is migrated. A hidden share that is named is migrated.
func leftBecause(d *model.MigrationDraft, h model.Share, named bool) string {
	switch {
	case slices.ContainsFunc(d.Leave, func(left string) bool { return strings.EqualFold(left, h.Server+"/"+h.Name) }):
		return model.LeftByChoice
	case h.Kind != "disk", h.Hidden && !named:
		return model.LeftByKind
	}
	return ""
}

// folderOf is the folder at the target that a share goes to.
func folderOf(d *model.MigrationDraft, h model.Share) string {
	for _, f := range d.Folders {
		if strings.EqualFold(f.Share, h.Server+"/"+h.Name) {
			return f.Folder
		}
	}
	return strings.TrimSuffix(h.Name, "$")
}

// surveyed adds the latest survey of a share.
func (s *Service) surveyed(ctx context.Context, h *model.MigrationShare) error {
	h.Survey.State = model.SurveyMissing
	if h.Left == model.LeftByKind {
		return nil
	}
	runs, err := s.surveys.List(ctx, h.Server, h.Share, 0, mostLooked)
	if err != nil {
		return err
	}
	if len(runs) > 0 {
		r := runs[0]
		h.Survey = model.ShareSurvey{State: stateOf(r.State), Run: r.ID, Fraction: r.Fraction, Trouble: r.Trouble}
	}
	done := slices.DeleteFunc(runs, func(r model.Run) bool { return r.State != model.RunDone })
	if len(done) == 0 {
		return nil
	}
	h.Counts, err = s.countsOf(ctx, done[0], done[1:])
	return err
}

// mostLooked is among how many surveys of a share the latest finished ones are looked for.
const mostLooked = 10

func stateOf(s model.RunState) string {
	switch s {
	case model.RunDone:
		return model.SurveyComplete
	case model.RunFailed:
		return model.SurveyFailed
	case model.RunStopped:
		return model.SurveyStopped
	}
	return model.SurveyRunning
}

// countsOf are those of a finished survey. earlier are the finished surveys before it, the latest first. Finished surveys stay as they are, and so
// do their counts, which are remembered: a board reads those of every share.
func (s *Service) countsOf(ctx context.Context, latest model.Run, earlier []model.Run) (*model.ShareCounts, error) {
	key := fmt.Sprint(latest.ID)
	for _, r := range earlier {
		key += fmt.Sprint(" ", r.ID)
	}
	if c, known := s.counted.Get(key); known {
		return c, nil
	}
	v, err := s.surveys.Get(ctx, latest.ID)
	if fault.KindOf(err) == fault.NotFound { // it was removed meanwhile
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var times []time.Time
	for _, r := range earlier {
		before, err := s.surveys.Get(ctx, r.ID)
		if fault.KindOf(err) == fault.NotFound {
			continue
		}
		if err != nil {
			return nil, err
		}
		times = append(times, before.Figures.Now)
	}
	c := counts(v, times)
	s.counted.Add(key, c)
	return c, nil
}

// counts are those of a survey; earlier are the times of the surveys before it, the latest first.
func counts(v model.Survey, earlier []time.Time) *model.ShareCounts {
	f := v.Figures
	rate := f.PerDay(earlier...)
	c := &model.ShareCounts{Run: v.Run.ID, At: f.Now, Files: f.Files, Folders: f.Folders, Bytes: f.Bytes, ChangedPerDay: rate.Bytes, ChangedSince: rate.Since, Compared: rate.Compared,
		KeptOut: f.Unreadable + f.Unseen, Open: int64(len(v.Open)), Findings: int64(len(v.Findings))}
	if v.KeptOut != nil {
		c.KeptOut += v.KeptOut.Files
	}
	for _, n := range f.Names {
		c.Names += n.Count
	}
	return c
}

// addTo adds what was found in a share to the totals.
func addTo(t *model.MigrationTotals, h *model.MigrationShare) {
	if h.Left != "" {
		t.Left++
		return
	}
	t.Shares++
	c := h.Counts
	if c == nil {
		return
	}
	t.Surveyed++
	t.Files, t.Folders, t.Bytes, t.ChangedPerDay = t.Files+c.Files, t.Folders+c.Folders, t.Bytes+c.Bytes, t.ChangedPerDay+c.ChangedPerDay
	t.KeptOut, t.Open, t.Names = t.KeptOut+c.KeptOut, t.Open+c.Open, t.Names+c.Names
}
