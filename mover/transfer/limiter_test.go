package transfer

import (
	"sync"
	"sync/atomic"
	"testing"
)

// gauge tells how many are at something at a time, at most.
type gauge struct{ now, most atomic.Int64 }

func (g *gauge) in() {
	for n := g.now.Add(1); ; {
		most := g.most.Load()
		if n <= most || g.most.CompareAndSwap(most, n) {
			return
		}
	}
}

func (g *gauge) out() { g.now.Add(-1) }

// However many tasks are under way, few work; who waits lets others work.
func TestLimiter(t *testing.T) {
	l := NewLimiter(2)
	var working, large gauge
	var rested atomic.Int64
	var group sync.WaitGroup
	gate := make(chan struct{})
	for i := range 200 {
		group.Go(func() {
			_ = l.Work(func() error {
				working.in()
				working.out()
				_ = l.Rest(func() error { rested.Add(1); <-gate; return nil })
				return l.File(int64(i%2)*2*SmallFile, func() error {
					if i%2 == 1 {
						large.in()
						defer large.out()
					}
					return nil
				})
			})
		})
		if i == 199 {
			close(gate) // all could rest at once, though only six may work
		}
	}
	group.Wait()
	if working.most.Load() > 6 || large.most.Load() > 2 || rested.Load() != 200 {
		t.Errorf("%d worked and %d were at large files at a time; %d rested", working.most.Load(), large.most.Load(), rested.Load())
	}
}
