package proof

import (
	"testing"

	"bridgespan/core/verify"
	"bridgespan/model"
	"bridgespan/mover/compare"
)

func TestVerdict(t *testing.T) {
	same := model.VerifiedReplica{Replica: "heather"}
	late := model.VerifiedReplica{Replica: "sedge", Counts: verify.Counts{Explained: 2}}
	other := model.VerifiedReplica{Replica: "yarrow", Counts: verify.Counts{Missing: 1, Explained: 5}}
	busy := model.VerifiedReplica{Replica: "reed", Counts: verify.Counts{InUse: 1}}
	sampled := model.VerifiedReplica{Replica: "heather", AtMost: 0.012}
	for name, c := range map[string]struct {
		level    compare.Level
		replicas []model.VerifiedReplica
		want     string
	}{
		"nothing to compare": {compare.Full, nil, "All replicas hold what fern holds, by every byte."},
		"the same":           {compare.Full, []model.VerifiedReplica{same}, "All replicas hold what fern holds, by every byte."},
		"explained": {compare.Names, []model.VerifiedReplica{same, late},
			"All replicas hold what fern holds, by names, sizes, times and permissions, but for differences that are explained (sedge: 2)."},
		"others": {compare.Full, []model.VerifiedReplica{late, other},
			"Not all replicas hold what fern holds, by every byte: there are differences (yarrow: 1), besides differences that are explained (sedge: 2, yarrow: 5)."},
		"in use": {compare.Full, []model.VerifiedReplica{busy},
			"All replicas hold what fern holds, by every byte, but for files that somebody holds and that could not be read (reed: 1)."},
		"all of that": {compare.Names, []model.VerifiedReplica{late, busy, other},
			"Not all replicas hold what fern holds, by names, sizes, times and permissions: there are differences (yarrow: 1), besides differences that are explained (sedge: 2, yarrow: 5), and files that somebody holds and that could not be read (reed: 1)."},
		"explained, and in use": {compare.Full, []model.VerifiedReplica{late, busy},
			"All replicas hold what fern holds, by every byte, but for differences that are explained (sedge: 2), and files that somebody holds and that could not be read (reed: 1)."},
		"overdue": {compare.Names, []model.VerifiedReplica{{Replica: "sedge", Counts: verify.Counts{Missing: 3, Overdue: 2}}},
			"Not all replicas hold what fern holds, by names, sizes, times and permissions: there are differences (sedge: 3). 2 differences are overdue: in a backlog for more than three times as long as was forecast."},
		"a sample": {compare.Sample, []model.VerifiedReplica{sampled, same},
			"All replicas hold what fern holds, by names and a sample of contents. With a confidence of 95%, the contents of at most 1.2% of the files differ."},
	} {
		if got := verdict(&model.ReplicaVerification{Against: "fern", Replicas: c.replicas}, c.level); got != c.want {
			t.Errorf("%s: %q\nwant %q", name, got, c.want)
		}
	}
}
