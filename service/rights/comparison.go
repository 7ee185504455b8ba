package rights

import (
	"context"
	"errors"
	"fmt"
	"time"

	"bridgespan/core/acl"
	"bridgespan/model"
	"bridgespan/mover/compare"
	"bridgespan/records"
	"bridgespan/service/jobs"
	"bridgespan/tree"
)

// compareKind is the kind of runs that compare permissions.
const compareKind = "compare"

// compareSettings are the two places, as their servers call them.
type compareSettings struct {
	First  model.Place `json:"first"`
	Second model.Place `json:"second"`
}

// StartCompare compares two places and everything below them, as a run.
func (s *Service) StartCompare(ctx context.Context, asked model.CompareRights) (model.RightsComparison, error) {
	b, err := s.lookAtBoth(ctx, asked.First, asked.Second)
	if err != nil {
		return model.RightsComparison{}, err
	}
	settings := compareSettings{b.first.Place, b.second.Place}
	b.close()
	id, err := s.jobs.Start(ctx, compareKind, subject(settings.First)+" and "+subject(settings.Second), settings)
	if err != nil {
		return model.RightsComparison{}, err
	}
	if _, err := s.jobs.Await(ctx, id, answerWithin); err != nil {
		return model.RightsComparison{}, err
	}
	return s.Comparison(ctx, id)
}

// shownDifferences is how many differences are shown with a comparison.
const shownDifferences = 50

// Comparison shows a comparison as far as it is.
func (s *Service) Comparison(ctx context.Context, id int64) (model.RightsComparison, error) {
	c := model.RightsComparison{Share: []model.RightsShift{}, Accounts: []model.RightsTotal{}}
	settings, run, err := s.comparison(ctx, id)
	if err != nil {
		return c, err
	}
	c.First, c.Second = settings.First, settings.Second
	if _, err := s.jobs.Result(ctx, id, &c); err != nil {
		return c, err
	}
	c.Run = &run
	c.Differences, _, err = s.Differences(ctx, id, 0, "", shownDifferences)
	return c, err
}

func (s *Service) comparison(ctx context.Context, id int64) (settings compareSettings, run model.Run, err error) {
	run, err = s.jobs.Read(ctx, id, compareKind, &settings, nil)
	return settings, run, err
}

// Differences lists where the two places of a comparison differ, in the order
// of the paths, after a number; next is the number to go on after, 0 at the end.
func (s *Service) Differences(ctx context.Context, id, after int64, part string, limit int) (list []model.RightsDifference, next int64, err error) {
	settings, _, err := s.comparison(ctx, id)
	if err != nil {
		return nil, 0, err
	}
	found, err := s.db.RightsDifferences(ctx, id, after, part, limit+1)
	if err != nil {
		return nil, 0, err
	}
	if len(found) > limit {
		found = found[:limit]
		next = found[limit-1].Seq
	}
	list = []model.RightsDifference{}
	var judge acl.Judge
	if len(found) == 0 {
		return list, 0, nil
	}
	b, done, err := s.namesOfBoth(ctx, settings)
	if err != nil {
		return nil, 0, err
	}
	defer done()
	for _, d := range found {
		pair := acl.Pair{Path: d.Path, Folder: d.Folder, Before: d.First, After: d.Second, Unread: d.Unread}
		if pair.Unread == "" {
			pair.Shifts = judge.Shifts(d.First, d.Second)
		}
		shown, err := b.difference(ctx, pair)
		if err != nil {
			return nil, 0, err
		}
		list = append(list, shown)
	}
	return list, next, nil
}

// namesOfBoth names accounts as two servers do; while one is away, by what the
// numbers of the accounts say.
func (s *Service) namesOfBoth(ctx context.Context, settings compareSettings) (*both, func(), error) {
	first, doneFirst, err := s.namesAt(ctx, settings.First.Server)
	if err != nil {
		return nil, nil, err
	}
	second, doneSecond, err := s.namesAt(ctx, settings.Second.Server)
	if err != nil {
		doneFirst()
		return nil, nil, err
	}
	b := &both{s: s, names: first, first: &look{server: model.Server{Name: settings.First.Server}}, second: &look{server: model.Server{Name: settings.Second.Server}, at: second.at}}
	return b, func() { doneFirst(); doneSecond() }, nil
}

// comparing is a comparison that is under way.
type comparing struct {
	both  *both
	job   *jobs.Job
	c     model.RightsComparison
	ids   records.DescriptorIDs
	batch []records.RightsDifference
	kept  comparingKept
	saved time.Time
	judge acl.Judge
}

// comparingKept is what a stopped comparison needs to go on.
type comparingKept struct {
	After  string `json:"after"` // the path up to which all is compared
	Totals totals `json:"totals"`
}

// keepEvery is how often a comparison keeps what it needs to go on, and
// compareBatch how many differences are kept at once.
const (
	keepEvery    = 5 * time.Second
	compareBatch = 500
)

// compare works on a comparison.
func (s *Service) compare(ctx context.Context, job *jobs.Job) error {
	var settings compareSettings
	if err := job.Settings(&settings); err != nil {
		return err
	}
	b, err := s.lookAtBoth(ctx, subject(settings.First), subject(settings.Second))
	if err != nil {
		return err
	}
	defer b.close()
	return s.compareBoth(ctx, job, b)
}

// compareBoth compares two places that are open.
func (s *Service) compareBoth(ctx context.Context, job *jobs.Job, b *both) (err error) {
	c := &comparing{both: b, job: job, ids: records.DescriptorIDs{}, saved: time.Now()}
	if _, err := job.Resumes(&c.kept); err != nil {
		return err
	}
	if c.c, err = b.begin(ctx); err != nil {
		return interrupted(b.first, err, "nothing was compared yet")
	}
	// What was found after the last checkpoint will be found again.
	if err := s.db.Change(ctx, func(tx *records.Tx) error {
		return tx.ForgetRightsDifferences(ctx, job.ID, c.kept.Totals.found()+1)
	}); err != nil {
		return err
	}
	if err := c.walk(ctx, s.db); err != nil {
		return errors.Join(interrupted(c.away(err), err, fmt.Sprintf("when it is back, go on with: bspan run resume %d", job.ID)), c.keep(context.WithoutCancel(ctx), s.db))
	}
	if err := c.keep(ctx, s.db); err != nil {
		return err
	}
	return job.Finish(c.c)
}

// away is the place that an error is about.
func (c *comparing) away(err error) *look {
	var at *compare.SideError
	if errors.As(err, &at) && at.Side == 1 {
		return c.both.second
	}
	return c.both.first
}

// walk compares what is not compared yet.
func (c *comparing) walk(ctx context.Context, db *records.DB) error {
	side := func(l *look) compare.Side {
		return compare.Side{Name: l.server.Name, Tree: l.tree, Top: l.inside()}
	}
	w := &compare.Walk{First: side(c.both.first), Second: side(c.both.second), Detail: tree.WithDescriptors, After: c.kept.After}
	for p, err := range w.Pairs(ctx) {
		if err != nil {
			return err
		}
		pair := c.pair(p)
		c.kept.Totals.add(pair)
		if !pair.Same() {
			c.batch = append(c.batch, records.RightsDifference{Seq: c.kept.Totals.found(), Path: pair.Path, Folder: pair.Folder, First: pair.Before, Second: pair.After, Unread: pair.Unread})
		}
		c.job.Progress(c.kept.Totals.Looked, 0, w.Seen())
		if !w.Resumable() {
			continue
		}
		c.kept.After = pair.Path
		if len(c.batch) >= compareBatch || time.Since(c.saved) > keepEvery {
			if err := c.keep(ctx, db); err != nil {
				return err
			}
		}
	}
	return nil
}

// pair judges what both places have at a path.
func (c *comparing) pair(p compare.Pair) acl.Pair {
	pair := acl.Pair{Path: p.Path}
	for _, side := range []struct {
		look  *look
		entry *tree.Named
		to    *acl.Descriptor
	}{{c.both.second, p.Second, &pair.After}, {c.both.first, p.First, &pair.Before}} {
		if side.entry == nil {
			continue
		}
		pair.Folder, *side.to = side.entry.Kind == tree.Folder, side.entry.Descriptor
		if side.entry.Unread != nil {
			pair.Unread = side.look.server.Name + ": " + compare.Unreadable(side.entry.Unread)
		}
	}
	if pair.Unread == "" {
		pair.Shifts = c.judge.Shifts(pair.Before, pair.After)
	}
	return pair
}

// keep keeps what was found, and then from where to go on.
func (c *comparing) keep(ctx context.Context, db *records.DB) error {
	err := db.Change(ctx, func(tx *records.Tx) error { return tx.AddRightsDifferences(ctx, c.job.ID, c.batch, c.ids) })
	if err != nil {
		return err
	}
	c.batch, c.saved = c.batch[:0], time.Now()
	// Names are for show: a server that is away has none to give, and the work goes on elsewhere.
	if err := c.both.count(ctx, &c.c, &c.kept.Totals); err != nil {
		return c.job.Checkpoint(ctx, c.kept, nil)
	}
	return c.job.Checkpoint(ctx, c.kept, c.c)
}
