package estimates

import (
	"context"
	"errors"

	"bridgespan/core/finding"
	"bridgespan/model"
	"bridgespan/service/jobs"
)

// whatIfKind is the kind of runs that count what was read under another policy.
const whatIfKind = "what-if"

// whatIfSettings of a run.
type whatIfSettings struct {
	Volume int64        `json:"volume"`
	Asked  model.WhatIf `json:"asked"`
}

// StartWhatIf starts to count what another policy would save, from what was read.
func (s *Service) StartWhatIf(ctx context.Context, name string, asked model.WhatIf) (model.WhatIfAnswer, error) {
	v, err := s.db.DedupVolume(ctx, name)
	if err == nil {
		err = checkCounting(&asked.Counting)
	}
	if err == nil {
		err = s.mayCount(ctx, asked.Counting, v)
	}
	if err != nil {
		return model.WhatIfAnswer{}, err
	}
	run, err := s.jobs.Start(ctx, whatIfKind, v.Name, whatIfSettings{v.ID, asked})
	if err != nil {
		return model.WhatIfAnswer{}, err
	}
	return s.WhatIf(ctx, run)
}

// WhatIf shows what another policy would save, once that is counted.
func (s *Service) WhatIf(ctx context.Context, id int64) (model.WhatIfAnswer, error) {
	var work whatIfSettings
	f := found{Warnings: []finding.Finding{}}
	r, err := s.jobs.Read(ctx, id, whatIfKind, &work, &f)
	return model.WhatIfAnswer{Run: r, Volume: r.Subject, Asked: work.Asked, Found: f.Found, Warnings: f.Warnings}, err
}

// countWhatIf counts.
func (s *Service) countWhatIf(ctx context.Context, job *jobs.Job) error {
	var work whatIfSettings
	if err := job.Settings(&work); err != nil {
		return err
	}
	v, err := s.db.DedupVolumeNumbered(ctx, work.Volume)
	if err != nil {
		return err
	}
	points, err := s.db.Estimates(ctx, v.ID, 1)
	if err != nil {
		return err
	}
	at := now()
	if len(points) > 0 { // ages as they were then: what was changed since was not read
		at = points[0].Totals.Now
	}
	f, err := s.analyse(ctx, v, work.Asked.Counting, at, passes(job))
	if err != nil {
		return stopped(err)
	}
	warnings := append([]finding.Finding{}, judge(&f, work.Asked.Counting)...)
	return job.Finish(found{Warnings: warnings, Found: &f})
}

// passes tells a run how far counting is.
func passes(job *jobs.Job) func(done, all int64) {
	return func(done, all int64) { job.Progress(done, 0, float64(done)/float64(max(all, 1))) }
}

// stopped is the error of work that was stopped, or whose service ends.
func stopped(err error) error {
	if errors.Is(err, context.Canceled) {
		return jobs.ErrStopped
	}
	return err
}
