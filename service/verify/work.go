package verify

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"time"

	"bridgespan/core/account"
	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/core/paths"
	"bridgespan/core/verify"
	"bridgespan/model"
	"bridgespan/service/estate"
	"bridgespan/service/jobs"
	"bridgespan/service/naming"
	"bridgespan/smbadmin"
	"bridgespan/tree"
	"bridgespan/tree/smb"
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

// side is one of the two places.
type side struct {
	server  model.Server
	session *smb.Session
	tree    tree.Tree
	realms  []account.Realm
}

func (s *Service) open(ctx context.Context, t namespace.Target) (*side, error) {
	v, session, err := s.estate.Session(ctx, t.Server)
	if err != nil {
		return nil, err
	}
	p := &side{server: v, session: session}
	opened, err := session.Tree(ctx, t.Share, t.Sub)
	if err == nil {
		p.tree = opened
		at, atErr := s.accounts.At(ctx, v, smbadmin.New(session))
		if err = atErr; err == nil {
			defer at.Close()
			p.realms = s.accounts.Realms(at)
		}
	}
	if err != nil {
		p.close()
		return nil, fmt.Errorf("%s: %w", t, estate.Unavailable(v, err))
	}
	return p, nil
}

func (p *side) close() {
	if p.tree != nil {
		p.tree.Close()
	}
	p.session.Close()
}

// away is an error of one side.
type away struct {
	side *side
	error
}

func (a away) Unwrap() error { return a.error }

// items are what a walk meets, as far as it is compared.
func items(ctx context.Context, p *side, walk *tree.Ordered) iter.Seq2[verify.Item, error] {
	return func(yield func(verify.Item, error) bool) {
		for e, err := range walk.All(ctx) {
			if err != nil {
				err = away{p, err}
			}
			if !yield(verify.Item{Path: e.Path, Folder: e.Kind == tree.Folder, Size: e.Size, Modified: e.Modified, Descriptor: e.Descriptor}, err) {
				return
			}
		}
	}
}

// work verifies.
func (s *Service) work(ctx context.Context, job *jobs.Job) error {
	var work settings
	if err := job.Settings(&work); err != nil {
		return err
	}
	first, err := s.open(ctx, work.Against)
	if err != nil {
		return err
	}
	defer first.close()
	second, err := s.open(ctx, work.Target)
	if err != nil {
		return err
	}
	defer second.close()
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
	var a away
	switch {
	case errors.Is(err, context.Canceled):
		return jobs.ErrStopped
	case errors.As(err, &a) && errors.Is(err, tree.ErrUnreachable):
		return fault.New(fault.Unavailable, fmt.Sprintf("when it is back, go on with: bspan run resume %d", job.ID), "%s stopped answering", a.side.server.Name).Because(err)
	case errors.As(err, &a):
		return estate.Unavailable(a.side.server, err)
	}
	return err
}

// reporter is the part of a job that a comparison reports to.
type reporter interface {
	Progress(done, bytes int64, fraction float64)
	Checkpoint(ctx context.Context, checkpoint, result any) error
}

// compare compares what is not compared yet.
func compare(ctx context.Context, job reporter, first, second *side, k *kept) error {
	local := func(sid account.SID) bool {
		for _, realms := range [][]account.Realm{first.realms, second.realms} {
			if o := account.Describe(sid, realms).Origin; o == account.OfServer || o == account.OfUnixHost {
				return true
			}
		}
		return false
	}
	a := &tree.Ordered{Tree: first.tree, Top: ".", Detail: tree.WithDescriptors, After: k.After}
	b := &tree.Ordered{Tree: second.tree, Top: ".", Detail: tree.WithDescriptors, After: k.After}
	saved := time.Now()
	for p, err := range paths.Pairs(tree.Ahead(ctx, items(ctx, first, a)), tree.Ahead(ctx, items(ctx, second, b)), func(i verify.Item) string { return i.Path }) {
		if err != nil {
			return err
		}
		differences := verify.Compare(p.First, p.Second, local)
		k.Found.Counts.Add(p.First, differences)
		for _, d := range differences {
			k.keep(d)
		}
		k.After = p.Path
		job.Progress(k.Found.Counts.Compared, k.Found.Counts.Bytes, min(a.Seen.Get(), b.Seen.Get()))
		if time.Since(saved) > keepEvery {
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
