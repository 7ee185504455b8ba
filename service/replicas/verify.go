package replicas

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/zeebo/blake3"
	"golang.org/x/sync/errgroup"

	"bridgespan/core/account"
	"bridgespan/core/fault"
	"bridgespan/core/filter"
	"bridgespan/core/paths"
	"bridgespan/core/replica"
	"bridgespan/core/verify"
	"bridgespan/model"
	"bridgespan/service/jobs"
	"bridgespan/smbadmin"
	"bridgespan/tree"
)

// verifyKind is the kind of runs that verify a set.
const verifyKind = "verify-set"

// Levels of a verification.
const (
	levelNames = "names"
	levelFull  = "full"
)

type verifySettings struct {
	Set   string `json:"set"`
	Level string `json:"level"`
}

// Verify begins to find out whether the replicas of a set hold the same.
func (s *Service) Verify(ctx context.Context, name, level string) (model.ReplicaVerification, error) {
	set, err := s.db.ReplicaSet(ctx, name)
	if err != nil {
		return model.ReplicaVerification{}, err
	}
	run, err := s.jobs.Start(ctx, verifyKind, set.Name, verifySettings{set.Name, orText(level, levelNames)})
	if err != nil {
		return model.ReplicaVerification{}, err
	}
	return s.Verified(ctx, run)
}

// Verified shows a verification as far as it is.
func (s *Service) Verified(ctx context.Context, id int64) (model.ReplicaVerification, error) {
	v := model.ReplicaVerification{Replicas: []model.VerifiedReplica{}}
	r, err := s.jobs.Get(ctx, id)
	if err != nil {
		return v, err
	}
	if r.Kind != verifyKind {
		return v, fault.New(fault.NotFound, "list the runs with: bspan run list", "run %d does not verify a replica set", id)
	}
	if _, err := s.jobs.Result(ctx, id, &v); err != nil {
		return v, err
	}
	var asked verifySettings
	err = s.jobs.Settings(ctx, id, &asked)
	v.Run, v.Set, v.Level = r, asked.Set, asked.Level
	return v, err
}

// verifier works on one verification.
type verifier struct {
	*Service
	job    *jobs.Job
	level  string
	set    model.ReplicaSet
	filter *filter.Filter
	found  model.ReplicaVerification
	after  string // the path up to which the replica that is compared now is done

	mu   sync.Mutex // of what is found while contents are read
	done int64
	size int64
}

// resumable is what a stopped verification needs to go on.
type resumable struct {
	Found model.ReplicaVerification `json:"found"`
	After string                    `json:"after"`
}

func (s *Service) verifySet(ctx context.Context, job *jobs.Job) error {
	var asked verifySettings
	if err := job.Settings(&asked); err != nil {
		return err
	}
	v := &verifier{Service: s, job: job, level: asked.Level, found: model.ReplicaVerification{Replicas: []model.VerifiedReplica{}}}
	var err error
	if v.set, err = s.db.ReplicaSet(ctx, asked.Set); err != nil {
		return err
	}
	if v.filter, err = filter.New(v.set.Filter); err != nil {
		return err
	}
	var kept resumable
	if ok, err := job.Resumes(&kept); err != nil {
		return err
	} else if ok {
		v.found, v.after = kept.Found, kept.After
	}
	if err := v.all(ctx); err != nil {
		if ctx.Err() != nil {
			return jobs.ErrStopped
		}
		return err
	}
	v.conclude()
	return job.Finish(v.found)
}

// all compares each replica with the seed.
func (v *verifier) all(ctx context.Context) error {
	i := slices.IndexFunc(v.set.Replicas, func(r model.Replica) bool { return r.Seed })
	seed, others := v.set.Replicas[i], slices.Delete(slices.Clone(v.set.Replicas), i, i+1)
	v.found.Against = seed.Name
	for k, r := range others {
		done := len(v.found.Replicas)
		if k < done-1 || k == done-1 && v.after == "" { // in an earlier part of the work
			continue
		}
		if k == done {
			v.found.Replicas = append(v.found.Replicas, model.VerifiedReplica{Replica: r.Name, Differences: []verify.Difference{}})
		}
		if err := v.pair(ctx, seed, r, float64(k)/float64(len(others)), len(others)); err != nil {
			return err
		}
		v.after = ""
		if err := v.keep(ctx); err != nil {
			return err
		}
	}
	return nil
}

func (v *verifier) keep(ctx context.Context) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.job.Checkpoint(ctx, resumable{v.found, v.after}, v.found)
}

// end is one of the two replicas that are compared.
type end struct {
	replica model.Replica
	tree    tree.Tree
	realms  []account.Realm
}

func (v *verifier) reach(ctx context.Context, r model.Replica) (*end, error) {
	server, session, err := v.estate.Session(ctx, r.Server)
	if err != nil {
		return nil, err
	}
	t, err := session.Tree(ctx, r.Share, r.Sub)
	if err != nil {
		_ = session.Close()
		return nil, v.explain(ctx, r.Server, err)
	}
	e := &end{replica: r, tree: &withSession{t, session.Close}}
	if at, err := v.accounts.At(ctx, server, smbadmin.New(session)); err == nil {
		e.realms = v.accounts.Realms(at)
		at.Close()
	}
	return e, nil
}

// keepEvery is how often a verification keeps what it needs to go on.
const keepEvery = 5 * time.Second

// pair compares a replica with the seed, from where an earlier part ended.
func (v *verifier) pair(ctx context.Context, seed, r model.Replica, behind float64, of int) error {
	first, err := v.reach(ctx, seed)
	if err != nil {
		return err
	}
	defer first.tree.Close()
	second, err := v.reach(ctx, r)
	if err != nil {
		return err
	}
	defer second.tree.Close()
	local := func(sid account.SID) bool {
		for _, realms := range [][]account.Realm{first.realms, second.realms} {
			if o := account.Describe(sid, realms).Origin; o == account.OfServer || o == account.OfUnixHost {
				return true
			}
		}
		return false
	}
	a, b := &tree.Ordered{Tree: first.tree, Top: ".", Detail: tree.WithDescriptors, After: v.after}, &tree.Ordered{Tree: second.tree, Top: ".", Detail: tree.WithDescriptors, After: v.after}
	group, reading := readers(ctx)
	saved := time.Now()
	for p, err := range paths.Pairs(tree.Ahead(ctx, v.items(ctx, first, a)), tree.Ahead(ctx, v.items(ctx, second, b)), func(i verify.Item) string { return i.Path }) {
		if err != nil {
			return errors.Join(group.Wait(), v.explain(ctx, r.Server, err))
		}
		v.note(ctx, first, second, p.First, verify.Compare(p.First, p.Second, local))
		if v.level == levelFull && p.First != nil && p.Second != nil && !p.First.Folder && !p.Second.Folder && p.First.Size == p.Second.Size {
			name, size := p.Path, p.First.Size
			group.Go(func() error { return v.contents(reading, first, second, name, size) })
		}
		v.mu.Lock()
		v.job.Progress(v.done, v.size, behind+min(a.Seen.Get(), b.Seen.Get())/float64(of))
		v.mu.Unlock()
		if time.Since(saved) > keepEvery {
			// What is kept as done must have been read.
			if err := group.Wait(); err != nil {
				return err
			}
			group, reading = readers(ctx)
			v.after, saved = p.Path, time.Now()
			_ = v.keep(ctx) // a database that is away now may be back by the next time
		}
	}
	return errors.Join(group.Wait(), ctx.Err())
}

// sideBySide is how many files are read at a time.
const sideBySide = 6

func readers(ctx context.Context) (*errgroup.Group, context.Context) {
	group, reading := errgroup.WithContext(ctx)
	group.SetLimit(sideBySide)
	return group, reading
}

// items are what a walk meets, as far as the set is about it.
func (v *verifier) items(ctx context.Context, e *end, walk *tree.Ordered) iter.Seq2[verify.Item, error] {
	return func(yield func(verify.Item, error) bool) {
		for m, err := range walk.All(ctx) {
			if err == nil && (m.Path == "." || leftOut(v.filter, m)) {
				continue
			}
			i := verify.Item{Path: m.Path, Folder: m.Kind == tree.Folder, Size: m.Size, Modified: m.Modified}
			if v.set.Permissions == model.PermissionsCarry {
				i.Attributes, i.Descriptor = uint32(m.Attributes&tree.ReadOnly), m.Descriptor
			}
			if !yield(i, err) {
				return
			}
		}
	}
}

// note counts what was found at a path. What is still on its way is explained.
func (v *verifier) note(ctx context.Context, first, second *end, item *verify.Item, differences []verify.Difference) {
	for i := range differences {
		d := &differences[i]
		if d.Explained {
			continue
		}
		waits, err := v.db.Waits(ctx, replica.ID(first.replica.ID), replica.ID(second.replica.ID), tree.Key(d.Path, false))
		d.Explained = err == nil && waits
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	r := &v.found.Replicas[len(v.found.Replicas)-1]
	if item != nil || len(differences) > 0 {
		r.Counts.Add(item, differences)
	}
	v.done++
	v.show(r, differences)
}

// shown is how many differences of a replica are kept.
const shown = 200

func (v *verifier) show(r *model.VerifiedReplica, differences []verify.Difference) {
	for _, d := range differences {
		if len(r.Differences) < shown {
			r.Differences = append(r.Differences, d)
		}
	}
}

// contents compares what is in a file at both ends.
func (v *verifier) contents(ctx context.Context, first, second *end, name string, size int64) error {
	var sums [2][32]byte
	group, reading := errgroup.WithContext(ctx)
	for i, e := range []*end{first, second} {
		group.Go(func() (err error) {
			sums[i], err = sumOf(reading, e.tree, name)
			if err != nil && !isMissing(err) && reading.Err() == nil {
				return fmt.Errorf("%s at %s: %w", name, e.replica.Name, err)
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil || ctx.Err() != nil {
		return errors.Join(err, ctx.Err())
	}
	v.mu.Lock()
	v.size += size
	r := &v.found.Replicas[len(v.found.Replicas)-1]
	r.Read += size
	v.mu.Unlock()
	if sums[0] == sums[1] {
		return nil
	}
	d := []verify.Difference{{Path: name, Kind: verify.Content, First: fmt.Sprintf("%x", sums[0][:6]), Second: fmt.Sprintf("%x", sums[1][:6])}}
	waits, err := v.db.Waits(ctx, replica.ID(first.replica.ID), replica.ID(second.replica.ID), tree.Key(name, false))
	d[0].Explained = err == nil && waits
	v.mu.Lock()
	defer v.mu.Unlock()
	r.Counts.Differs(d...)
	v.show(r, d)
	return nil
}

// sumOf is the hash of a file's content.
func sumOf(ctx context.Context, t tree.Tree, name string) (sum [32]byte, err error) {
	content, err := t.Open(ctx, name)
	if err != nil {
		return sum, err
	}
	defer content.Close()
	stream := tree.Stream(ctx, content, 0)
	defer stream.Close()
	hash := blake3.New()
	if _, err := io.Copy(hash, stream); err != nil {
		return sum, err
	}
	hash.Sum(sum[:0])
	return sum, nil
}

// conclude says what came of it.
func (v *verifier) conclude() {
	var differ []string
	for i := range v.found.Replicas {
		r := &v.found.Replicas[i]
		slices.SortStableFunc(r.Differences, func(a, b verify.Difference) int { return rankOf(a) - rankOf(b) })
		if n := r.Counts.Unexplained(); n > 0 {
			differ = append(differ, fmt.Sprintf("%s: %s", r.Replica, count(n, "difference", "differences")))
		}
	}
	what := "names, sizes, times and permissions"
	if v.level == levelFull {
		what = "every byte"
	}
	if len(differ) == 0 {
		v.found.Verdict = fmt.Sprintf("All replicas hold what %s holds, by %s.", v.found.Against, what)
		return
	}
	v.found.Verdict = fmt.Sprintf("Not all replicas hold what %s holds, by %s: %s.", v.found.Against, what, strings.Join(differ, ", "))
}

func rankOf(d verify.Difference) int {
	if d.Explained {
		return 1
	}
	return 0
}
