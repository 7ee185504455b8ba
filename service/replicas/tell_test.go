package replicas

import (
	"testing"

	"bridgespan/model"
)

// TestSummary says how sets are by their replicas and lanes.
func TestSummary(t *testing.T) {
	full := func(settings, troubles int64) model.Replica {
		return model.Replica{State: model.ReplicaSteady, Filled: true, Settings: settings, Troubles: troubles}
	}
	waits := []model.Lane{{Backlog: model.Backlog{Files: 1}}}
	for _, c := range []struct {
		name string
		set  model.ReplicaSet
		want string
	}{
		{"all done", model.ReplicaSet{Version: 1, Replicas: []model.Replica{full(1, 0), full(1, 0)}}, model.SetSteady},
		{"something waits to be tried again", model.ReplicaSet{Version: 1, Replicas: []model.Replica{full(1, 0), full(1, 0)}, Lanes: waits}, model.SetBehind},
		{"something failed", model.ReplicaSet{Version: 1, Replicas: []model.Replica{full(1, 0), full(1, 1)}}, model.SetBehind},
		{"one is not filled", model.ReplicaSet{Version: 1, Replicas: []model.Replica{full(1, 0), {State: model.ReplicaWaiting}}}, model.SetFilling},
		{"one fails", model.ReplicaSet{Version: 1, Replicas: []model.Replica{full(1, 0), {State: model.ReplicaFailing, Filled: true}}, Lanes: waits}, model.SetFailing},
		{"one has not heard of the pause", model.ReplicaSet{Version: 2, Paused: true, Replicas: []model.Replica{full(2, 0), full(1, 0)}}, model.SetPausing},
		{"all have heard of it", model.ReplicaSet{Version: 2, Paused: true, Replicas: []model.Replica{full(2, 0), full(2, 0)}, Lanes: waits}, model.SetPaused},
	} {
		if state, words := summary(&c.set); state != c.want || words == "" {
			t.Errorf("%s: %s, %q; want %s", c.name, state, words, c.want)
		}
	}
}
