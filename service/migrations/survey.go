package migrations

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"bridgespan/core/fault"
	"bridgespan/model"
)

// mostBegun is how many surveys one call begins: a person may have 200 open runs.
const mostBegun = 100

// Survey begins surveys of the shares that are migrated, but for those under way: at most mostBegun of them, those first that were not
// surveyed for longest. Lists of shares are read anew before.
func (s *Service) Survey(ctx context.Context, name string) ([]model.Run, error) {
	m, err := s.db.Migration(ctx, name)
	if err != nil {
		return nil, err
	}
	if err := s.listAnew(ctx, &m.MigrationDraft); err != nil {
		return nil, err
	}
	if err := s.complete(ctx, &m); err != nil {
		return nil, err
	}
	next := slices.DeleteFunc(m.Shares, func(h model.MigrationShare) bool { return h.Left != "" || h.Survey.State == model.SurveyRunning })
	slices.SortStableFunc(next, func(a, b model.MigrationShare) int { return cmp.Compare(a.Survey.Run, b.Survey.Run) })
	var places []model.SurveyPlace
	for _, h := range next[:min(len(next), mostBegun)] {
		places = append(places, model.SurveyPlace{Server: h.Server, Share: h.Share})
	}
	if len(places) == 0 {
		return nil, fault.New(fault.Taken, "wait for the surveys under way, or choose other sources", "no share of %s is to be surveyed now", m.Name)
	}
	return s.surveys.Start(ctx, places)
}

// listAnew lists the shares of all source servers.
func (s *Service) listAnew(ctx context.Context, d *model.MigrationDraft) error {
	var servers []string
	for _, source := range d.Sources {
		server, _, _ := strings.Cut(source, "/")
		if slices.Contains(servers, server) {
			continue
		}
		servers = append(servers, server)
		r, err := s.estate.Reach(ctx, server)
		if err != nil {
			return err
		}
		_, err = s.estate.ListShares(ctx, r)
		r.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

// each calls do with the latest finished survey of each share that is migrated.
func (s *Service) each(ctx context.Context, m *model.Migration, do func(*model.MigrationShare, model.Survey) error) error {
	for i := range m.Shares {
		h := &m.Shares[i]
		if h.Left != "" || h.Counts == nil {
			continue
		}
		v, err := s.surveys.Get(ctx, h.Counts.Run)
		if err == nil {
			err = do(h, v)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
