package replicas

import (
	"strings"
	"testing"
	"time"

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
		{"a lane makes no progress", model.ReplicaSet{Version: 1, Replicas: []model.Replica{full(1, 0), full(1, 0)}, Lanes: []model.Lane{{State: model.LaneStalled, Backlog: model.Backlog{Files: 1}}}}, model.SetStalled},
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

// The figures of a lane that makes no progress say so: nobody can tell when it is empty.
func TestStalledLanes(t *testing.T) {
	at := time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)
	since := at.Add(-3 * time.Minute)
	for _, state := range []string{model.LaneCarrying, model.LaneStalled} {
		set := model.ReplicaSet{Name: "beds", Calendar: "full", Retry: model.Retry{AlertAfter: 5}}
		l := model.Lane{From: "oak", To: "elm", State: state, Rate: 2.5e6, Trouble: "2 items were tried in vain", Backlog: model.Backlog{Files: 2, Bytes: 10, Oldest: &since}}
		if state == model.LaneStalled {
			l.Stalled = &since
		}
		tellLane(&set, &l, 100, at)
		laneAlerts(&set, &l, nil, at)
		stalled := state == model.LaneStalled
		if (l.EmptyAt == nil) != stalled || strings.Contains(l.Words, "no progress for 3 minutes") != stalled || (len(set.Alerts) == 1 && set.Alerts[0].Code == "stalled") != stalled {
			t.Errorf("%s: clears at %v, %q, alerts %+v", state, l.EmptyAt, l.Words, set.Alerts)
		}
	}
}

// TestReplicaWords: what failed and what was repaired is said beside what was scanned.
func TestReplicaWords(t *testing.T) {
	for _, c := range []struct {
		replica model.Replica
		want    string
	}{
		{model.Replica{State: model.ReplicaSteady, Entries: 1}, "1 item"},
		{model.Replica{State: model.ReplicaSteady, Entries: 2, Repairs: 1}, "2 items; 1 record repaired"},
		{model.Replica{State: model.ReplicaSteady, Entries: 2, Troubles: 3, Repairs: 1200}, "2 items; 3 items failed; 1,200 records repaired"},
		{model.Replica{State: model.ReplicaFailing, Trouble: "the share is gone", Repairs: 1}, "the share is gone"},
	} {
		if words := replicaWords(&model.ReplicaSet{}, &c.replica); words != c.want {
			t.Errorf("%q, want %q", words, c.want)
		}
	}
}
