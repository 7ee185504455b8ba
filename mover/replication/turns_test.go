package replication

import (
	"cmp"
	"fmt"
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
	steps   int // that were drawn
}

type turn struct {
	label string
	start chan struct{}
	after int // the step before which it is not drawn
}

// wait waits for a turn. Nobody waits while nothing runs together.
func (s *turns) wait(label string) { s.pause(label, 0) }

// pause waits for a turn, and lets others have some before, if there are others.
func (s *turns) pause(label string, others int) {
	s.mu.Lock()
	if !s.on {
		s.mu.Unlock()
		return
	}
	t := turn{label, make(chan struct{}), s.steps + others}
	s.waiting = append(s.waiting, t)
	s.mu.Unlock()
	<-t.start
}

// together runs tasks by turns until all have ended. What they began and did not wait
// for goes on when something runs together the next time.
func (s *turns) together(tasks ...func()) {
	var left atomic.Int64
	s.switched(true)
	for i, task := range tasks {
		left.Add(1)
		go func() {
			defer left.Add(-1)
			s.wait(fmt.Sprint("begin ", i))
			task()
		}()
	}
	for {
		synctest.Wait()
		if left.Load() == 0 {
			s.switched(false)
			return
		}
		s.next()
	}
}

// finish lets all that was begun come to its end.
func (s *turns) finish() {
	s.switched(true)
	for {
		synctest.Wait()
		if len(s.waiting) == 0 {
			s.switched(false)
			return
		}
		s.next()
	}
}

// next draws who is next.
func (s *turns) next() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.waiting) == 0 {
		panic("all wait for each other")
	}
	slices.SortFunc(s.waiting, func(a, b turn) int { return cmp.Or(cmp.Compare(a.after, b.after), cmp.Compare(a.label, b.label)) })
	s.steps = max(s.steps+1, s.waiting[0].after)
	ready := 0
	for ready < len(s.waiting) && s.waiting[ready].after <= s.steps {
		ready++
	}
	slices.SortFunc(s.waiting[:ready], func(a, b turn) int { return cmp.Compare(a.label, b.label) })
	i := s.random.IntN(ready)
	next := s.waiting[i]
	s.waiting = slices.Delete(s.waiting, i, i+1)
	if trace != nil {
		trace(next.label)
	}
	close(next.start)
}

func (s *turns) switched(on bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.on = on
}

var trace func(string)
