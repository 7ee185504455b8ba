package replication

import (
	"cmp"
	"math/rand/v2"
	"slices"
	"sync"
	"sync/atomic"
	"testing/synctest"
)

// turns lets goroutines of a bubble work strictly by turns: each waits at every
// step for its turn, and who is next is drawn. So whatever work side by side can
// do to each other happens, the same way for the same seed.
type turns struct {
	random *rand.Rand

	mu      sync.Mutex
	on      bool
	waiting []turn
}

type turn struct {
	label string
	start chan struct{}
}

// wait waits for a turn. Nobody waits while nothing runs together.
func (s *turns) wait(label string) {
	s.mu.Lock()
	if !s.on {
		s.mu.Unlock()
		return
	}
	t := turn{label, make(chan struct{})}
	s.waiting = append(s.waiting, t)
	s.mu.Unlock()
	<-t.start
}

// together runs tasks by turns until all have ended.
func (s *turns) together(tasks ...func()) {
	var left atomic.Int64
	s.switched(true)
	for _, task := range tasks {
		left.Add(1)
		go func() {
			defer left.Add(-1)
			s.wait("begin")
			task()
		}()
	}
	for {
		synctest.Wait()
		s.mu.Lock()
		if len(s.waiting) == 0 {
			s.mu.Unlock()
			if left.Load() > 0 {
				panic("all wait for each other")
			}
			s.switched(false)
			return
		}
		slices.SortFunc(s.waiting, func(a, b turn) int { return cmp.Compare(a.label, b.label) })
		i := s.random.IntN(len(s.waiting))
		next := s.waiting[i]
		s.waiting = slices.Delete(s.waiting, i, i+1)
		s.mu.Unlock()
		close(next.start)
	}
}

func (s *turns) switched(on bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.on = on
}
