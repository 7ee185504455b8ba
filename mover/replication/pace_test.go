package replication

import (
	"context"
	"strings"
	"sync/atomic"
	"testing"

	"bridgespan/core/replica"
	"bridgespan/tree/memory"
)

// What is read to be adopted passes as the lane may carry, at both of its ends;
// nothing else is read, and nothing is carried.
func TestAdoptionIsPaced(t *testing.T) {
	a, b := &memory.Tree{}, &memory.Tree{}
	p := newPair(t, a, b)
	text := strings.Repeat("the same at both ends ", 10_000)
	put(t, a, "same", text)
	put(t, b, "same", text)
	var passed, back atomic.Int64
	p.Pace = func(_ context.Context, l replica.Lane, n int) error {
		if l == p.Lanes[0] {
			passed.Add(int64(n))
		} else {
			back.Add(int64(n))
		}
		return nil
	}
	total := p.settleDown()
	p.same()
	if want := int64(2 * len(text)); passed.Load() != want || back.Load() != 0 || total.Bytes != 0 {
		t.Errorf("%d bytes passed, %d back, and %d were carried; want %d read", passed.Load(), back.Load(), total.Bytes, want)
	}
}
