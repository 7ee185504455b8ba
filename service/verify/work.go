package verify

import (
	"context"
	"errors"
	"fmt"

	"bridgespan/core/fault"
	"bridgespan/core/verify"
	"bridgespan/mover/compare"
	"bridgespan/service/jobs"
	"bridgespan/service/naming"
	"bridgespan/service/sides"
	"bridgespan/tree"
)

// kept is what a stopped verification needs to resume.
type kept struct {
	compare.State
	Found found `json:"found"`
	// Aside are explained differences, shown when there is room.
	Aside []verify.Difference `json:"aside"`
}

// work verifies.
func (s *Service) work(ctx context.Context, job *jobs.Job) error {
	var work settings
	if err := job.Settings(&work); err != nil {
		return err
	}
	first, err := sides.Open(ctx, s.estate, s.accounts, work.Against)
	if err != nil {
		return err
	}
	defer first.Close()
	second, err := sides.Open(ctx, s.estate, s.accounts, work.Target)
	if err != nil {
		return err
	}
	defer second.Close()
	k := &kept{Found: found{Differences: []verify.Difference{}}}
	if _, err := job.Resumes(k); err != nil {
		return err
	}
	c := compare.Comparison{First: first.Compared(), Second: second.Compared(), Level: compare.Names, Permissions: true, Local: sides.Local(first, second), Sink: &sink{job, k}}
	if err := c.Run(ctx, &k.State); err != nil {
		return stopped(job, err, first, second)
	}
	room := shownDifferences - len(k.Found.Differences)
	k.Found.Differences = append(k.Found.Differences, k.Aside[:min(len(k.Aside), room)]...)
	return s.conclude(ctx, job, work, k.Found)
}

// stopped says why a verification did not come to its end.
func stopped(job *jobs.Job, err error, first, second *sides.Side) error {
	var at *compare.SideError
	switch {
	case errors.Is(err, context.Canceled):
		return jobs.ErrStopped
	case errors.As(err, &at) && errors.Is(err, tree.ErrUnreachable):
		return fault.New(fault.Unavailable, fmt.Sprintf("when it is back, go on with: bspan run resume %d", job.ID), "%s stopped answering", at.Name).Because(err)
	}
	return sides.Explain(err, first, second)
}

// sink keeps what is found.
type sink struct {
	job  *jobs.Job
	kept *kept
}

func (s *sink) Compared(first *verify.Item) { s.kept.Found.Counts.Add(first, nil) }

func (s *sink) Found(found []verify.Difference) {
	s.kept.Found.Counts.Differs(found...)
	for _, d := range found {
		s.kept.keep(d)
	}
}

// Read is for levels that read contents.
func (s *sink) Read(string, int64, [32]byte, bool) {}

func (s *sink) Progress(fraction float64) {
	s.job.Progress(s.kept.Found.Counts.Compared, s.kept.Found.Counts.Bytes, fraction)
}

func (s *sink) Checkpoint(ctx context.Context) error {
	return s.job.Checkpoint(ctx, s.kept, s.kept.Found)
}

func (k *kept) keep(d verify.Difference) {
	list := &k.Found.Differences
	if d.Explained {
		list = &k.Aside
	}
	if len(*list) < shownDifferences {
		*list = append(*list, d)
	}
}

// conclude keeps what was found, and lets the location know.
func (s *Service) conclude(ctx context.Context, job *jobs.Job, work settings, f found) error {
	n := f.Counts.Unexplained()
	var err error
	f.Opened, err = s.naming.Verified(ctx, naming.Verdict{Namespace: work.Namespace, Entry: work.Entry, Location: work.Location, Run: job.ID, Who: job.Who, Differences: n})
	if fault.KindOf(err) == fault.NotFound {
		f.Verdict = "the location was removed meanwhile"
		return job.Finish(f)
	}
	if err != nil {
		return err
	}
	switch {
	case n > 0:
		f.Verdict = fmt.Sprintf("%s does not hold what %s holds: %d differences", work.Target, work.Against, n)
	case f.Opened:
		f.Verdict = fmt.Sprintf("%s holds what %s holds, and is open now", work.Target, work.Against)
	default:
		f.Verdict = fmt.Sprintf("%s holds what %s holds", work.Target, work.Against)
	}
	return job.Finish(f)
}
