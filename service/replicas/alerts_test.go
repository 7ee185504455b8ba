package replicas

import (
	"testing"
	"time"

	"bridgespan/model"
)

func TestGrowingBacklog(t *testing.T) {
	at := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	samples := func(sizes ...int64) (list []model.LaneSample) {
		for i, n := range sizes {
			list = append(list, model.LaneSample{At: at.Add(-time.Hour + time.Duration(i)*20*time.Minute), From: "oak", To: "elm", BacklogBytes: n})
		}
		return list
	}
	for name, c := range map[string]struct {
		now  int64
		then []model.LaneSample
		want bool
	}{
		"larger each time":  {400, samples(100, 200, 300), true},
		"smaller now":       {250, samples(100, 200, 300), false},
		"up and down":       {400, samples(100, 300, 200), false},
		"from nothing":      {400, samples(0, 200, 300), false},
		"not known so long": {400, samples(100, 200), false},
	} {
		l := &model.Lane{From: "oak", To: "elm", Backlog: model.Backlog{Bytes: c.now}}
		if _, got := grows(l, c.then, at); got != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}

func TestReplicaAlerts(t *testing.T) {
	at := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	long, soon := at.Add(-3*time.Hour), at.Add(-time.Minute)
	for want, r := range map[string]model.Replica{
		"":            {Name: "oak", State: model.ReplicaSteady, Looked: &soon, AtticQuota: 100, Attic: model.Attic{Bytes: 50}},
		"failing":     {Name: "oak", State: model.ReplicaFailing, Trouble: "oak does not answer", Looked: &long},
		"silent":      {Name: "oak", State: model.ReplicaSteady, Looked: &long},
		"intake-full": {Name: "oak", State: model.ReplicaSteady, Looked: &soon, IntakeQuota: 100, IntakeUsed: 90, IntakeFull: &long},
		"accounts":    {Name: "oak", State: model.ReplicaSteady, Looked: &soon, AccountsStale: &soon},
		"attic-full":  {Name: "oak", State: model.ReplicaSteady, Looked: &soon, AtticQuota: 100, Attic: model.Attic{Bytes: 95}},
	} {
		set := &model.ReplicaSet{Name: "beds"}
		replicaAlerts(set, &r, at)
		got := ""
		for _, a := range set.Alerts {
			got += a.Code
			if a.Found == "" || a.Meaning == "" || a.Remedy == "" {
				t.Errorf("%s says too little: %+v", a.Code, a)
			}
		}
		if got != want {
			t.Errorf("%+v: %q, want %q", r, got, want)
		}
	}
}
