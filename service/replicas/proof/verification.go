// Package proof finds out whether the replicas of a set hold the same, and how long a file takes
// from one to the others.
package proof

import (
	"cmp"
	"context"
	"io"
	"slices"

	"bridgespan/core/fault"
	"bridgespan/core/verify"
	"bridgespan/model"
	"bridgespan/mover/compare"
	"bridgespan/records"
	"bridgespan/service/jobs"
	"bridgespan/service/replicas/sets"
)

// VerifyKind is the kind of runs that verify a set.
const VerifyKind = "verify-set"

type verifySettings struct {
	Set    string        `json:"set"`
	Level  compare.Level `json:"level"`
	Sample int           `json:"sample,omitempty"`
	// WithinCalendar reads contents only while the lane between both is open.
	WithinCalendar bool `json:"withinCalendar,omitempty"`
}

func verifyWork(name string, asked model.VerifySet) jobs.Work {
	work := verifySettings{Set: name, Level: cmp.Or(compare.Level(asked.Level), compare.Names), WithinCalendar: asked.WithinCalendar}
	if work.Level == compare.Sample {
		if work.Sample = asked.Sample; work.Sample == 0 {
			work.Sample = model.UsualSample
		}
	}
	return jobs.Work{Subject: name, Settings: work}
}

// Verify begins to find out whether the replicas of a set hold the same.
func (s *Proofs) Verify(ctx context.Context, name string, asked model.VerifySet) (model.ReplicaVerification, error) {
	set, err := s.DB.ReplicaSet(ctx, name)
	if err != nil {
		return model.ReplicaVerification{}, err
	}
	ids, err := s.Runs.StartAll(ctx, VerifyKind, []jobs.Work{verifyWork(set.Name, asked)})
	if err != nil {
		return model.ReplicaVerification{}, err
	}
	return s.Verified(ctx, ids[0])
}

// ScheduleVerification saves a verification that is done again and again.
func (s *Proofs) ScheduleVerification(ctx context.Context, name string, asked model.ScheduleVerification) (model.Job, error) {
	set, err := s.DB.ReplicaSet(ctx, name)
	if err != nil {
		return model.Job{}, err
	}
	return s.Runs.Schedule(ctx, VerifyKind, asked.Rule, verifyWork(set.Name, asked.VerifySet))
}

// Verified shows a verification as far as it is.
func (s *Proofs) Verified(ctx context.Context, id int64) (model.ReplicaVerification, error) {
	v := model.ReplicaVerification{Replicas: []model.VerifiedReplica{}}
	var asked verifySettings
	r, err := s.Runs.Read(ctx, id, VerifyKind, &asked, &v)
	v.Run, v.Set, v.Level, v.Sample = r, asked.Set, string(asked.Level), asked.Sample
	return v, err
}

// Verifications lists the verifications of a set, newest first.
func (s *Proofs) Verifications(ctx context.Context, name string, limit int) ([]model.ReplicaVerification, error) {
	set, err := s.DB.ReplicaSet(ctx, name)
	if err != nil {
		return nil, err
	}
	runs, err := s.Runs.List(ctx, VerifyKind, set.Name, 0, limit)
	list := []model.ReplicaVerification{}
	for _, r := range runs {
		v, bad := s.Verified(ctx, r.ID)
		if bad != nil {
			return nil, bad
		}
		list = append(list, v)
	}
	return list, err
}

// Findings lists what a verification found; next is the number to go on after, 0
// at the end.
func (s *Proofs) Findings(ctx context.Context, id int64, asked records.FindingsAsked) (list []model.VerifyFinding, next int64, err error) {
	if _, err := s.Verified(ctx, id); err != nil {
		return nil, 0, err
	}
	limit := asked.Limit
	asked.Limit++
	found, err := s.DB.Findings(ctx, id, asked)
	if len(found) > limit {
		found = found[:limit]
		next = found[limit-1].Seq
	}
	list = []model.VerifyFinding{}
	for _, f := range found {
		list = append(list, model.VerifyFinding{Replica: f.Replica, Difference: f.Difference})
	}
	return list, next, err
}

// Manifest writes the checksums of all files that a full verification read at
// the seed, for sha256sum.
func (s *Proofs) Manifest(ctx context.Context, id int64, w io.Writer) error {
	v, err := s.Verified(ctx, id)
	if err != nil {
		return err
	}
	if v.Level != string(compare.Full) || v.Run.State != model.RunDone {
		return fault.New(fault.Needed, "verify with the level full, and wait for its end", "run %d has not read every file", id)
	}
	return s.DB.EachSum(ctx, id, func(sum records.Sum) error {
		_, err := io.WriteString(w, verify.ManifestLine(sum.Sum, sum.Path))
		return err
	})
}

// LastVerified tells of each set how it was last verified.
func (s *Proofs) LastVerified(ctx context.Context, set *model.ReplicaSet) error {
	runs, err := s.Runs.List(ctx, VerifyKind, set.Name, 0, 5)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(runs, func(r model.Run) bool { return r.State == model.RunDone })
	if i < 0 {
		return nil
	}
	v, err := s.Verified(ctx, runs[i].ID)
	if err != nil {
		return err
	}
	last := model.LastVerified{Run: v.Run.ID, At: *v.Run.Ended, Level: v.Level, Verdict: v.Verdict}
	for i := range v.Replicas {
		last.Differences += v.Replicas[i].Counts.Unexplained()
	}
	set.Verified = &last
	return nil
}

// Proofs is the use case.
type Proofs struct {
	*sets.Base
	openTo Opener
}

// New makes the proofs of sets.
func New(base *sets.Base) *Proofs {
	s := &Proofs{Base: base}
	s.Runs.Register(VerifyKind, jobs.Policy{Role: model.Operator, Pool: jobs.Batch}, s.verifySet)
	s.Runs.Register(ProbeKind, jobs.Policy{Role: model.Operator, Pool: jobs.Interactive}, s.probe)
	return s
}
