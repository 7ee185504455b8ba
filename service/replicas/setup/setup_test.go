package setup

import (
	"errors"
	"testing"

	"bridgespan/core/fault"
	"bridgespan/core/finding"
	"bridgespan/model"
)

// Faults at fields of a set are shown at the fields of its set-up.
func TestDraftField(t *testing.T) {
	for field, want := range map[string]string{
		"replicas[0].server": "account", "replicas[0].share": "bucket", "replicas[0].sub": "folder", "replicas[1].sub": "edges[0].sub", "replicas[12].edge.fill": "edges[11].policy.fill",
		"calendar": "calendar", "replicas": "replicas", "replicas[0].sweepMin": "replicas[0].sweepMin",
	} {
		if got := draftField(field); got != want {
			t.Errorf("%s is at %s, want %s", field, got, want)
		}
	}
	plain := errors.New("out of memory")
	if got := inDraft(plain); got != plain || inDraft(nil) != nil {
		t.Errorf("%v became %v", plain, got)
	}
}

func TestPassed(t *testing.T) {
	c := &model.CloudSetup{Name: "scans", Steps: []model.SetupStep{{Step: model.SetupAccount, State: model.SetupPassed}, {Step: model.SetupBucket, State: model.SetupOpen}, {Step: model.SetupMovers, State: model.SetupLocked}}}
	for before, ok := range map[string]bool{model.SetupAccount: true, model.SetupBucket: true, model.SetupMovers: false} {
		if err := passed(c, before); (err == nil) != ok || err != nil && fault.KindOf(err) != fault.Needed {
			t.Errorf("before %s: %v", before, err)
		}
	}
}

// What is stored in the bucket is compared with the quota of the account.
func TestQuota(t *testing.T) {
	for _, c := range []struct {
		stored, quota int64
		want          []finding.Severity
	}{{90, 0, nil}, {50, 100, []finding.Severity{finding.Pass}}, {95, 100, []finding.Severity{finding.Warn}}, {101, 100, []finding.Severity{finding.Fail}}} {
		w := &checker{setup: &model.CloudSetup{CloudDraft: model.CloudDraft{Quota: c.quota}}}
		w.quota(&model.CloudCosts{StoredBytes: c.stored})
		if len(w.checks) != len(c.want) || len(c.want) > 0 && w.checks[0].Severity != c.want[0] {
			t.Errorf("%d of %d: %+v", c.stored, c.quota, w.checks)
		}
	}
	w := &checker{setup: &model.CloudSetup{CloudDraft: model.CloudDraft{Quota: 1}}}
	if w.quota(nil); len(w.checks) != 0 {
		t.Errorf("without costs: %+v", w.checks)
	}
}

// A mover of another build may not know of sealing: then it has to be updated first.
func TestProgram(t *testing.T) {
	sealed := &model.Sealing{}
	for _, c := range []struct {
		build   string
		sealing *model.Sealing
		want    finding.Severity
	}{{"ours", nil, finding.Pass}, {"ours", sealed, finding.Pass}, {"older", nil, finding.Warn}, {"", nil, finding.Warn}, {"older", sealed, finding.Fail}, {"", sealed, finding.Fail}} {
		w := &checker{Setups: &Setups{build: "ours"}, setup: &model.CloudSetup{CloudDraft: model.CloudDraft{Sealing: c.sealing}}}
		w.program(model.Server{Name: "sedge"}, "1.0", c.build)
		if len(w.checks) != 1 || w.checks[0].Severity != c.want {
			t.Errorf("the build %q with sealing %v: %+v; want %s", c.build, c.sealing != nil, w.checks, c.want)
		}
	}
}
