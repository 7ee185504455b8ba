package jobs

import (
	"slices"

	"golang.org/x/sync/semaphore"
)

// Pool is a queue of runs with slots of its own: no run waits for one of another pool.
type Pool string

const (
	// Interactive work is what somebody waits for: a change of permissions, a comparison.
	Interactive Pool = "interactive"
	// Batch work reads whole shares and volumes.
	Batch Pool = "batch"
)

// slotsOf is how many runs of a pool one instance works on at a time.
var slotsOf = map[Pool]int64{Interactive: 4, Batch: 3}

// slots are those of one pool. Those who wait for one get it in order.
type slots struct {
	*semaphore.Weighted
	kinds []string // of runs that take them
}

// free is a pool of slots, none of which is taken.
func free() map[Pool]*slots {
	all := map[Pool]*slots{}
	for pool, n := range slotsOf {
		all[pool] = &slots{Weighted: semaphore.NewWeighted(n)}
	}
	return all
}

// add lets runs of a kind take slots.
func (s *slots) add(kind string) {
	if !slices.Contains(s.kinds, kind) {
		s.kinds = append(s.kinds, kind)
	}
}
