package verify

import (
	"context"
	"errors"
	"fmt"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/paths"
	"bridgespan/core/verify"
	"bridgespan/service/jobs"
	"bridgespan/service/naming"
	"bridgespan/service/sides"
	"bridgespan/tree"
)

// kept is what a stopped verification needs to go on.
type kept struct {
	After string `json:"after"`
	Found found  `json:"found"`
	// Aside are explained differences, shown when there is room.
	Aside []verify.Difference `json:"aside"`
}

// keepEvery is how often a verification keeps what it needs to go on.
const keepEvery = 5 * time.Second

// itemOf is what is compared of an entry.
func itemOf(e tree.Named) (verify.Item, bool) {
	return verify.Item{Path: e.Path, Folder: e.Kind == tree.Folder, Size: e.Size, Modified: e.Modified, Descriptor: e.Descriptor}, true
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
	k := kept{Found: found{Differences: []verify.Difference{}}}
	if _, err := job.Resumes(&k); err != nil {
		return err
	}
	if err := compare(ctx, job, first, second, &k); err != nil {
		return errors.Join(stopped(job, err), job.Checkpoint(ctx, k, k.Found))
	}
	room := shownDifferences - len(k.Found.Differences)
	k.Found.Differences = append(k.Found.Differences, k.Aside[:min(len(k.Aside), room)]...)
	return s.conclude(ctx, job, work, k.Found)
}

// stopped says why a verification did not come to its end.
func stopped(job *jobs.Job, err error) error {
	var a sides.Away
	switch {
	case errors.Is(err, context.Canceled):
		return jobs.ErrStopped
	case errors.As(err, &a) && errors.Is(err, tree.ErrUnreachable):
		return fault.New(fault.Unavailable, fmt.Sprintf("when it is back, go on with: bspan run resume %d", job.ID), "%s stopped answering", a.Side.Server.Name).Because(err)
	}
	return sides.Explain(err)
}

// reporter is the part of a job that a comparison reports to.
type reporter interface {
	Progress(done, bytes int64, fraction float64)
	Checkpoint(ctx context.Context, checkpoint, result any) error
}

// compare compares what is not compared yet.
func compare(ctx context.Context, job reporter, first, second *sides.Side, k *kept) error {
	local := sides.Local(first, second)
	a := &tree.Ordered{Tree: first.Tree, Top: ".", Detail: tree.WithDescriptors, After: k.After}
	b := &tree.Ordered{Tree: second.Tree, Top: ".", Detail: tree.WithDescriptors, After: k.After}
	saved := time.Now()
	var unlisted verify.Unlisted
	for p, err := range paths.Pairs(tree.Ahead(ctx, first.Items(ctx, a, itemOf)), tree.Ahead(ctx, second.Items(ctx, b, itemOf)), func(i verify.Item) string { return i.Path }) {
		if err != nil {
			return err
		}
		if unlisted.Contains(p) {
			continue
		}
		differences := verify.Compare(p.First, p.Second, local)
		k.Found.Counts.Add(p.First, differences)
		for _, d := range differences {
			k.keep(d)
		}
		k.After = p.Path
		job.Progress(k.Found.Counts.Compared, k.Found.Counts.Bytes, min(a.Seen.Get(), b.Seen.Get()))
		if time.Since(saved) > keepEvery && !unlisted.Inside() {
			saved = time.Now()
			// A database that is away now may be back by the next time.
			_ = job.Checkpoint(ctx, k, k.Found)
		}
	}
	return ctx.Err()
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
