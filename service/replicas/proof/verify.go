package proof

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"bridgespan/core/account"
	"bridgespan/core/filter"
	"bridgespan/core/namespace"
	"bridgespan/core/replica"
	"bridgespan/core/verify"
	"bridgespan/model"
	"bridgespan/mover/compare"
	"bridgespan/records"
	"bridgespan/service/jobs"
	"bridgespan/service/replicas/sets"
	"bridgespan/service/sides"
	"bridgespan/tree"
)

// verifier works on one verification.
type verifier struct {
	*Proofs
	job    *jobs.Job
	asked  verifySettings
	set    model.ReplicaSet
	filter *filter.Filter
	random *rand.Rand

	kept     verifyKept
	findings []records.Finding // not yet in the database
	sums     []records.Sum
	late     lateness
}

// verifyKept is what a stopped verification needs to resume.
type verifyKept struct {
	Found         model.ReplicaVerification `json:"found"`
	Seq           int64                     `json:"seq"` // how many findings there are
	Done          int64                     `json:"done"`
	Bytes         int64                     `json:"bytes"`
	compare.State                           // of the replica that is compared now
	// Doubts are differences at that replica that nothing explains.
	Doubts []records.Finding `json:"doubts,omitempty"`
}

func (s *Proofs) verifySet(ctx context.Context, job *jobs.Job) error {
	v := &verifier{Proofs: s, job: job, kept: verifyKept{Found: model.ReplicaVerification{Replicas: []model.VerifiedReplica{}}}}
	if err := job.Settings(&v.asked); err != nil {
		return err
	}
	v.random = rand.New(rand.NewPCG(uint64(job.ID), 5))
	var err error
	if v.set, err = s.DB.ReplicaSet(ctx, v.asked.Set); err != nil {
		return err
	}
	v.late.name = v.set.Name
	if v.filter, err = filter.New(v.set.Filter); err != nil {
		return err
	}
	if _, err := job.Resumes(&v.kept); err != nil {
		return err
	}
	if err := s.DB.Change(ctx, func(tx *records.Tx) error { return tx.ForgetFindings(ctx, job.ID, v.kept.Seq) }); err != nil {
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
		v.kept.State, v.kept.Doubts = compare.State{}, nil
		if err := v.keep(ctx); err != nil {
			return err
		}
	}
	return nil
}

// keep keeps what was found. Nothing may be read meanwhile.
func (v *verifier) keep(ctx context.Context) error {
	err := v.DB.Change(ctx, func(tx *records.Tx) error {
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
	pairs, err := v.DB.ReplicaAccounts(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	side, err := sides.Open(ctx, v.Estate, v.People, r.Target())
	if err == nil {
		side.Tree = compare.InAccounts(side.Tree, pairs)
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
	c := v.comparison(first, second)
	c.Sink = &verifySink{verifier: v, behind: behind, of: float64(of)}
	if err := c.Run(ctx, &v.kept.State); err != nil {
		return sides.Explain(err, first.Side, second.Side)
	}
	if err := v.lookTwice(ctx, c, first, second); err != nil {
		return sides.Explain(err, first.Side, second.Side)
	}
	v.assure()
	return nil
}

// comparison is that of two replicas.
func (v *verifier) comparison(first, second *end) *compare.Comparison {
	keeps := func(e tree.Named) bool {
		return e.Path != "." && !strings.HasPrefix(e.Path, probePrefix) && !sets.LeftOut(v.filter, e)
	}
	side := func(e *end) compare.Side { return compare.Side{Name: e.replica.Name, Tree: e.Tree, Keep: keeps} }
	c := &compare.Comparison{First: side(first), Second: side(second), Level: v.asked.Level, Sample: v.asked.Sample, Random: v.random,
		Local: v.local(first, second), Gate: v.gateTo(first.replica, second.replica),
		Explain: func(ctx context.Context, found []verify.Difference) {
			v.sayLevels(ctx, first, found)
			v.onTheirWay(ctx, first, second, found)
		}}
	if v.set.Permissions != model.PermissionsLeave {
		c.Permissions, c.Attributes = true, tree.ReadOnly
	}
	return c
}

// verifySink keeps what is found at the replica that is compared now.
type verifySink struct {
	*verifier
	behind, of float64 // the share of all that is done, and in how many replicas
}

func (s *verifySink) Compared(first *verify.Item) {
	s.replica().Counts.Add(first, nil)
	s.kept.Done++
}

func (s *verifySink) Found(found []verify.Difference) {
	r := s.replica()
	r.Counts.Differs(found...)
	s.find(r, found)
}

func (s *verifySink) Read(path string, size int64, sum [32]byte, ok bool) {
	s.kept.Bytes += size
	s.replica().Read += size
	if s.asked.Level == compare.Full && ok {
		s.sums = append(s.sums, records.Sum{Path: path, Sum: sum})
	}
}

func (s *verifySink) Progress(fraction float64) {
	s.job.Progress(s.kept.Done, s.kept.Bytes, s.behind+fraction/s.of)
}

func (s *verifySink) Checkpoint(ctx context.Context) error { return s.keep(ctx) }

// assure says what a sample assures of.
func (v *verifier) assure() {
	if v.asked.Level != compare.Sample {
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
		named, err := v.People.Named(ctx, at.At, sids)
		if err != nil {
			continue // the text form says the same in numbers
		}
		var first, second []string
		for k, s := range d.Shifts {
			first = append(first, named[k].Name+": "+sets.LevelOf(s.Before))
			second = append(second, named[k].Name+": "+sets.LevelOf(s.After))
		}
		d.First, d.Second = strings.Join(first, "; "), strings.Join(second, "; ")
	}
}

// onTheirWay explains what still waits in a backlog.
func (v *verifier) onTheirWay(ctx context.Context, first, second *end, differences []verify.Difference) {
	var keys []string
	for i := range differences {
		if !differences[i].Explained {
			keys = append(keys, tree.Key(differences[i].Path, false))
		}
	}
	waits, err := v.DB.Waits(ctx, replica.ID(first.replica.ID), replica.ID(second.replica.ID), keys)
	if err != nil { // what cannot be told is not explained
		return
	}
	for i := range differences {
		d := &differences[i]
		w, ok := waits[tree.Key(d.Path, false)]
		if d.Explained || !ok {
			continue
		}
		d.Why = v.late.check(ctx, v.DB, w, sets.Now())
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
func verdict(found *model.ReplicaVerification, level compare.Level) string {
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
	by := map[compare.Level]string{compare.Names: "names, sizes, times and permissions", compare.Sample: "names and a sample of contents", compare.Full: "every byte"}[level]
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
		words += fmt.Sprintf(" %s overdue: in a backlog for more than three times as long as was forecast.", sets.Count(overdue, "difference is", "differences are"))
	}
	if level == compare.Sample {
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
		r, err := sets.FindReplica(&v.set, found.Replica)
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

// Opener opens the held locations of signposts that lead to one place and to
// another one, which was found to hold the same by a run; it returns the paths of
// those that it opened.
type Opener func(ctx context.Context, known, verified namespace.Target, run int64, who string) ([]string, error)

// OpenTo says who opens locations of replicas that were verified.
func (s *Proofs) OpenTo(o Opener) { s.openTo = o }
