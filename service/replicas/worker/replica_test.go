package worker

import (
	"testing"
	"time"

	"bridgespan/model"
	"bridgespan/mover/replication"
)

func TestRested(t *testing.T) {
	const usual = time.Minute
	for what, c := range map[string]struct {
		replica model.Replica
		done    replication.Scanned
		follows bool
		want    time.Duration
	}{
		"a file server":                     {want: usual},
		"one that tells of changes":         {follows: true, want: followShare * usual},
		"a bucket":                          {replica: model.Replica{Swept: true}, want: 6 * time.Hour},
		"a bucket, every 90 minutes":        {replica: model.Replica{Swept: true, SweepMin: 90}, want: 90 * time.Minute},
		"a bucket, in which tasks are busy": {replica: model.Replica{Swept: true}, done: replication.Scanned{Busy: 1}, want: usual},
		"a bucket, not all of which is seen": {replica: model.Replica{Swept: true}, done: replication.Scanned{Trouble: 1},
			want: usual},
	} {
		p := &replicaWorker{Replica: c.replica}
		p.follows.Store(c.follows)
		if got := p.rested(usual, c.done); got != c.want {
			t.Errorf("%s rests for %v, want %v", what, got, c.want)
		}
	}
}

// With another time between scans, the pause begins anew; other settings leave it as it is.
func TestSweepTakesOver(t *testing.T) {
	p := &replicaWorker{Replica: model.Replica{Swept: true}, look: make(chan struct{}, 1), notified: changedFolders{bell: make(chan struct{}, 1)}}
	r := &round{places: []*replicaWorker{p}, untidy: make(chan struct{}, 1)}
	p.round = r
	for _, c := range []struct {
		minutes int
		looks   bool
	}{{0, false}, {90, true}, {90, false}, {0, true}} {
		r.takeOver(model.ReplicaSet{Replicas: []model.Replica{{Swept: true, SweepMin: c.minutes}}})
		looks := false
		select {
		case <-p.look:
			looks = true
		default:
		}
		if looks != c.looks || p.snapshot().SweepMin != c.minutes {
			t.Errorf("with %d minutes it is scanned at once: %v, want %v", c.minutes, looks, c.looks)
		}
	}
}
