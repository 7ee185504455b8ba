package replicas

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/core/filter"
	"bridgespan/core/paths"
	"bridgespan/core/replica"
	"bridgespan/core/verify"
	"bridgespan/model"
	"bridgespan/mover/gate"
	"bridgespan/records"
	"bridgespan/service/accounts"
	"bridgespan/service/jobs"
	"bridgespan/service/sides"
	"bridgespan/tree"
)

// verifier works on one verification.
type verifier struct {
	*Service
	job    *jobs.Job
	asked  verifySettings
	set    model.ReplicaSet
	filter *filter.Filter
	random *rand.Rand
	gate   *gate.Gate // between the replicas that are compared now

	mu       sync.Mutex // of what follows: contents are read side by side
	kept     verifyKept
	findings []records.Finding // not yet in the database
	sums     []records.Sum
	late     lateness
}

// verifyKept is what a stopped verification needs to go on.
type verifyKept struct {
	Found model.ReplicaVerification `json:"found"`
	After string                    `json:"after"` // up to which path the replica that is compared now is done
	Seq   int64                     `json:"seq"`   // how many findings there are
	Done  int64                     `json:"done"`
	Bytes int64                     `json:"bytes"`
	// Chosen are the files of the sample, and Met of how many they were chosen.
	Chosen []chosenFile `json:"chosen,omitempty"`
	Met    int64        `json:"met"`
	// Doubts are differences at the replica that is compared now that nothing explains.
	Doubts []records.Finding `json:"doubts,omitempty"`
}

// chosenFile is a file of a sample.
type chosenFile struct {
	Path string `json:"path"`
	Size int64  `json:"size"`
}

func (s *Service) verifySet(ctx context.Context, job *jobs.Job) error {
	v := &verifier{Service: s, job: job, kept: verifyKept{Found: model.ReplicaVerification{Replicas: []model.VerifiedReplica{}}}}
	if err := job.Settings(&v.asked); err != nil {
		return err
	}
	v.random = rand.New(rand.NewPCG(uint64(job.ID), 5))
	var err error
	if v.set, err = s.db.ReplicaSet(ctx, v.asked.Set); err != nil {
		return err
	}
	v.late.name = v.set.Name
	if v.filter, err = filter.New(v.set.Filter); err != nil {
		return err
	}
	if _, err := job.Resumes(&v.kept); err != nil {
		return err
	}
	if err := s.db.Change(ctx, func(tx *records.Tx) error { return tx.ForgetFindings(ctx, job.ID, v.kept.Seq) }); err != nil {
		return err
	}
	if err := v.all(ctx); err != nil {
		if ctx.Err() != nil {
			return jobs.ErrStopped
		}
		return err
	}
	v.conclude()
	if err := v.openHeld(ctx); err != nil {
		return err
	}
	return job.Finish(v.kept.Found)
}

// all compares each replica with the seed.
func (v *verifier) all(ctx context.Context) error {
	i := slices.IndexFunc(v.set.Replicas, func(r model.Replica) bool { return r.Seed })
	seed, others := v.set.Replicas[i], slices.Delete(slices.Clone(v.set.Replicas), i, i+1)
	found := &v.kept.Found
	found.Against = seed.Name
	for k, r := range others {
		done := len(found.Replicas)
		if k < done-1 || k == done-1 && v.kept.After == "" { // in an earlier part of the work
			continue
		}
		if k == done {
			found.Replicas = append(found.Replicas, model.VerifiedReplica{Replica: r.Name, Differences: []verify.Difference{}})
		}
		if err := v.pair(ctx, seed, r, float64(k)/float64(len(others)), len(others)); err != nil {
			return err
		}
		v.kept.After, v.kept.Chosen, v.kept.Met, v.kept.Doubts = "", nil, 0, nil
		if err := v.keep(ctx); err != nil {
			return err
		}
	}
	return nil
}

// keep keeps what was found. Nothing may be read meanwhile.
func (v *verifier) keep(ctx context.Context) error {
	err := v.db.Change(ctx, func(tx *records.Tx) error {
		if err := tx.AddFindings(ctx, v.job.ID, v.findings); err != nil {
			return err
		}
		return tx.AddSums(ctx, v.job.ID, v.sums)
	})
	if err != nil {
		return err
	}
	v.findings, v.sums = nil, nil
	return v.job.Checkpoint(ctx, v.kept, v.kept.Found)
}

// end is one of the two replicas that are compared.
type end struct {
	*sides.Side
	replica model.Replica
	pairs   map[account.SID]account.SID // its accounts that are others in the set
}

func (v *verifier) reach(ctx context.Context, r model.Replica) (*end, error) {
	pairs, err := v.db.ReplicaAccounts(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	side, err := sides.Open(ctx, v.estate, v.accounts, r.Target())
	if err == nil {
		side.Tree = inAccounts(side.Tree, pairs)
	}
	return &end{side, r, pairs}, err
}

// local reports of accounts whether they mean something at one of two ends alone:
// those of a server itself, unless the set's account map has a pair for them.
func (v *verifier) local(first, second *end) func(account.SID) bool {
	ofServers := sides.Local(first.Side, second.Side)
	return func(sid account.SID) bool {
		if !ofServers(sid) {
			return false
		}
		for _, e := range []*end{first, second} {
			if _, paired := e.pairs[sid]; paired {
				return false
			}
		}
		return true
	}
}

// keepEvery is how often a verification keeps what it needs to go on.
const keepEvery = 5 * time.Second

// pair compares a replica with the seed, from where an earlier part ended.
func (v *verifier) pair(ctx context.Context, seed, r model.Replica, behind float64, of int) error {
	first, err := v.reach(ctx, seed)
	if err != nil {
		return err
	}
	defer first.Close()
	second, err := v.reach(ctx, r)
	if err != nil {
		return err
	}
	defer second.Close()
	local := v.local(first, second)
	a, b := &tree.Ordered{Tree: first.Tree, Top: ".", Detail: tree.WithDescriptors, After: v.kept.After}, &tree.Ordered{Tree: second.Tree, Top: ".", Detail: tree.WithDescriptors, After: v.kept.After}
	v.gate = v.gateTo(seed, r)
	group, reading := readers(ctx)
	saved := time.Now()
	var unlisted verify.Unlisted
	for p, err := range paths.Pairs(tree.Ahead(ctx, first.Items(ctx, a, v.itemOf)), tree.Ahead(ctx, second.Items(ctx, b, v.itemOf)), func(i verify.Item) string { return i.Path }) {
		if err != nil {
			return errors.Join(group.Wait(), sides.Explain(err))
		}
		if unlisted.Contains(p) {
			continue
		}
		differences := verify.Compare(p.First, p.Second, local)
		v.sayLevels(ctx, first, differences)
		v.note(ctx, first, second, p.First, differences)
		if p.First != nil && p.Second != nil && !p.First.Folder && !p.Second.Folder && p.First.Size == p.Second.Size {
			f := chosenFile{p.Path, p.First.Size}
			switch v.asked.Level {
			case levelFull:
				group.Go(func() error { return v.contents(reading, first, second, f) })
			case levelSample:
				v.choose(f)
			}
		}
		v.progress(behind + min(a.Seen.Get(), b.Seen.Get())/float64(of))
		if time.Since(saved) > keepEvery && !unlisted.Inside() {
			// What is kept as done must have been read.
			if err := group.Wait(); err != nil {
				return err
			}
			group, reading = readers(ctx)
			v.kept.After, saved = p.Path, time.Now()
			_ = v.keep(ctx) // a database that is away now may be back by the next time
		}
	}
	for _, f := range v.kept.Chosen {
		group.Go(func() error { return v.contents(reading, first, second, f) })
	}
	if err := errors.Join(group.Wait(), ctx.Err()); err != nil {
		return err
	}
	if err := v.lookTwice(ctx, first, second, local); err != nil {
		return err
	}
	v.assure()
	return nil
}

func (v *verifier) progress(fraction float64) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.job.Progress(v.kept.Done, v.kept.Bytes, fraction)
}

// choose chooses files for the sample, each with the same probability (Vitter,
// "Random Sampling with a Reservoir", algorithm R, 1985).
func (v *verifier) choose(f chosenFile) {
	v.kept.Met++
	if len(v.kept.Chosen) < v.asked.Sample {
		v.kept.Chosen = append(v.kept.Chosen, f)
	} else if i := v.random.Int64N(v.kept.Met); i < int64(v.asked.Sample) {
		v.kept.Chosen[i] = f
	}
}

// assure says what a sample assures of.
func (v *verifier) assure() {
	if v.asked.Level != levelSample {
		return
	}
	r := v.replica()
	r.Sampled = int64(len(v.kept.Chosen))
	r.AtMost = verify.AtMost(r.Sampled, r.Counts.Contents, v.kept.Met)
}

// replica is what was found at the replica that is compared now.
func (v *verifier) replica() *model.VerifiedReplica {
	return &v.kept.Found.Replicas[len(v.kept.Found.Replicas)-1]
}

// itemOf is what is compared of an entry, as far as the set is about it.
func (v *verifier) itemOf(m tree.Named) (verify.Item, bool) {
	i := verify.Item{Path: m.Path, Folder: m.Kind == tree.Folder, Size: m.Size, Modified: m.Modified}
	if v.set.Permissions != model.PermissionsLeave {
		i.Attributes, i.Descriptor = uint32(m.Attributes&tree.ReadOnly), m.Descriptor
	}
	return i, m.Path != "." && !strings.HasPrefix(m.Path, probePrefix) && !leftOut(v.filter, m)
}

// sayLevels says differing permissions as levels, by the names of accounts.
func (v *verifier) sayLevels(ctx context.Context, at *end, differences []verify.Difference) {
	for i := range differences {
		d := &differences[i]
		if d.Kind != verify.Permissions {
			continue
		}
		var sids []account.SID
		for _, s := range d.Shifts {
			sids = append(sids, s.Account)
		}
		named, err := v.accounts.Named(ctx, at.At, sids)
		if err != nil {
			continue // the text form says the same in numbers
		}
		var first, second []string
		for k, s := range d.Shifts {
			first = append(first, named[k].Name+": "+levelOf(s.Before))
			second = append(second, named[k].Name+": "+levelOf(s.After))
		}
		d.First, d.Second = strings.Join(first, "; "), strings.Join(second, "; ")
	}
}

// nameOf names an account as people read it; by its number when nobody can.
func (s *Service) nameOf(ctx context.Context, at *accounts.At, sid account.SID) string {
	named, err := s.accounts.Named(ctx, at, []account.SID{sid})
	if err != nil {
		return sid.String()
	}
	return named[0].Name
}

func levelOf(m acl.Mask) string {
	if l := m.Level(); l != acl.Unusual {
		return string(l)
	}
	return fmt.Sprintf("special (%#x)", uint32(m))
}

// note counts what was found at a path. What is still on its way is explained.
func (v *verifier) note(ctx context.Context, first, second *end, item *verify.Item, differences []verify.Difference) {
	v.onTheirWay(ctx, first, second, differences)
	v.mu.Lock()
	defer v.mu.Unlock()
	r := v.replica()
	if item != nil || len(differences) > 0 {
		r.Counts.Add(item, differences)
	}
	v.kept.Done++
	v.find(r, differences)
}

// onTheirWay explains what still waits in a backlog.
func (v *verifier) onTheirWay(ctx context.Context, first, second *end, differences []verify.Difference) {
	for i := range differences {
		d := &differences[i]
		if d.Explained {
			continue
		}
		w, waits, err := v.db.Waits(ctx, replica.ID(first.replica.ID), replica.ID(second.replica.ID), tree.Key(d.Path, false))
		if err != nil || !waits {
			continue
		}
		d.Why = v.late.check(ctx, v.db, w, now())
		if d.Overdue = d.Why != ""; !d.Overdue {
			d.Explained, d.Why = true, "it is still in the backlog"
		}
	}
}

// shown is how many differences of a replica are kept with the run itself.
const shown = 50

func (v *verifier) find(r *model.VerifiedReplica, differences []verify.Difference) {
	for _, d := range differences {
		if len(r.Differences) < shown {
			r.Differences = append(r.Differences, d)
		}
		f := records.Finding{Seq: v.kept.Seq, Replica: r.Replica, Difference: d}
		v.findings = append(v.findings, f)
		v.doubt(f)
		v.kept.Seq++
	}
}

// conclude says what came of it.
func (v *verifier) conclude() {
	found := &v.kept.Found
	for i := range found.Replicas {
		slices.SortStableFunc(found.Replicas[i].Differences, func(a, b verify.Difference) int { return rankOf(a) - rankOf(b) })
	}
	found.Verdict = verdict(found, v.asked.Level)
}

// verdict says what came of a verification, in words.
func verdict(found *model.ReplicaVerification, level string) string {
	var differ, explained, held []string
	most := 0.0
	for i := range found.Replicas {
		r := &found.Replicas[i]
		for list, n := range map[*[]string]int64{&differ: r.Counts.Unexplained(), &explained: r.Counts.Explained, &held: r.Counts.InUse} {
			if n > 0 {
				*list = append(*list, fmt.Sprintf("%s: %d", r.Replica, n))
			}
		}
		most = max(most, r.AtMost)
	}
	overdue := int64(0)
	for i := range found.Replicas {
		overdue += found.Replicas[i].Counts.Overdue
	}
	by := map[string]string{levelNames: "names, sizes, times and permissions", levelSample: "names and a sample of contents", levelFull: "every byte"}[level]
	subject, differences, joint := "All", "", ", but for "
	if len(differ) > 0 {
		subject, differences, joint = "Not all", ": there are differences ("+strings.Join(differ, ", ")+")", ", besides "
	}
	words := fmt.Sprintf("%s replicas hold what %s holds, by %s%s", subject, found.Against, by, differences)
	var besides []string
	if len(explained) > 0 {
		besides = append(besides, "differences that are explained ("+strings.Join(explained, ", ")+")")
	}
	if len(held) > 0 {
		besides = append(besides, "files that somebody holds and that could not be read ("+strings.Join(held, ", ")+")")
	}
	if len(besides) > 0 {
		words += joint + strings.Join(besides, ", and ")
	}
	words += "."
	if overdue > 0 {
		words += fmt.Sprintf(" %s overdue: in a backlog for more than three times as long as was forecast.", count(overdue, "difference is", "differences are"))
	}
	if level == levelSample {
		words += fmt.Sprintf(" With a confidence of 95%%, the contents of at most %.2g%% of the files differ.", 100*most)
	}
	return words
}

func rankOf(d verify.Difference) int {
	if d.Explained {
		return 1
	}
	return 0
}

// openHeld lets the held locations of signposts know that a replica without
// differences holds what the seed holds, which is at another location of each.
func (v *verifier) openHeld(ctx context.Context) error {
	for i := range v.kept.Found.Replicas {
		found := &v.kept.Found.Replicas[i]
		r, err := findReplica(&v.set, found.Replica)
		if err != nil || found.Counts.Unexplained() > 0 || found.Counts.InUse > 0 || v.openTo == nil {
			continue
		}
		seed := v.set.Replicas[slices.IndexFunc(v.set.Replicas, func(r model.Replica) bool { return r.Seed })]
		opened, err := v.openTo(ctx, seed.Target(), r.Target(), v.job.ID, v.job.Who)
		if err != nil {
			return err
		}
		found.Opened = opened
	}
	return nil
}
