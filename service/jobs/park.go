package jobs

import (
	"context"
	"sync"
)

// slot is the place that a run takes in its pool. While the run is parked, it has none.
type slot struct {
	pool *slots

	mu     sync.Mutex
	parked bool
	gone   bool // given back for good
}

// park gives the slot to others.
func (s *slot) park() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.parked && !s.gone {
		s.parked = true
		s.pool.Release(1)
	}
}

// unpark waits for a slot, unless there is one.
func (s *slot) unpark(ctx context.Context) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.parked || s.gone {
		return nil
	}
	if err := s.pool.Acquire(ctx, 1); err != nil {
		return err
	}
	s.parked = false
	return nil
}

// leave gives the slot back for good.
func (s *slot) leave() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.parked && !s.gone {
		s.pool.Release(1)
	}
	s.gone = true
}

// Park says what the work waits for, which may take long: until Unpark, others of its pool
// are worked on in its place. Everything that the work does meanwhile must be light.
func (j *Job) Park(text string) {
	j.Waits(text)
	if j.slot != nil {
		j.slot.park()
	}
}

// Unpark waits until the work may go on. It returns the error of ctx when that ends before.
func (j *Job) Unpark(ctx context.Context) error {
	if j.slot != nil {
		j.Waits("a free slot: other runs of its queue are worked on first")
		if err := j.slot.unpark(ctx); err != nil {
			return err
		}
	}
	j.Waits("")
	return nil
}
