package worker

import (
	"context"
	"errors"
	"testing"
	"time"

	"bridgespan/model"
)

func TestNext(t *testing.T) {
	for _, c := range []struct {
		limit, done int
		took        time.Duration
		want        int
	}{
		{64, 64, time.Second, 128}, {64, 101, 2 * time.Second, 128}, {128, 101, 2 * time.Second, 256}, // one folder of 101 paths at a time
		{256, 101, time.Second, 256},     // less than might be: nothing more waits
		{256, 256, 4 * time.Second, 256}, // as long as it should take
		{256, 256, 7 * time.Second, 128},
		{leastLimit, 1, time.Minute, leastLimit}, {mostLimit, mostLimit, time.Second, mostLimit},
	} {
		if got := next(c.limit, c.done, c.took); got != c.want {
			t.Errorf("after %d of %d in %v: %d, want %d", c.done, c.limit, c.took, got, c.want)
		}
	}
}

// What an edge fetches goes by the calendar of the lane that leads there, and within its speed.
func TestShare(t *testing.T) {
	r := &round{dirty: make(chan struct{}, 1), set: model.ReplicaSet{Calendar: "8"}, places: []*replicaWorker{{Replica: model.Replica{ID: 1}}, {Replica: model.Replica{ID: 2}}, {Replica: model.Replica{ID: 3}}}}
	w := newLaneWorker(r, model.Lane{FromID: 1, ToID: 2})
	r.ways = []*laneWorker{newLaneWorker(r, model.Lane{FromID: 2, ToID: 1, Closed: true}), w}
	if err := r.share(t.Context(), r.places[1], 1000); err != nil || w.limiter.Limit() != 1e6 {
		t.Errorf("through a capped lane: %v, at %g bytes/s", err, float64(w.limiter.Limit()))
	}
	if w.passed != 0 || w.State == model.LaneCarrying {
		t.Errorf("the lane is %s, and has carried %d bytes", w.State, w.passed)
	}
	if err := r.share(t.Context(), r.places[2], 1<<40); err != nil {
		t.Errorf("where no lane leads: %v", err)
	}
	w.takeOver(model.Lane{Closed: true}, "full")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if err := r.share(ctx, r.places[1], 1000); !errors.Is(err, context.Canceled) {
		t.Errorf("through a closed lane: %v", err)
	}
}
