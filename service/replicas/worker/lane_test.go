package worker

import (
	"testing"
	"time"
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
