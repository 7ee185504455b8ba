package transfer

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"

	"bridgespan/tree/memory"
)

// slowFlush is a tree that flushes when it is let.
type slowFlush struct {
	*memory.Tree
	begun, let chan struct{}
	flushes    atomic.Int64
}

func (s *slowFlush) Flush(context.Context) error {
	s.flushes.Add(1)
	s.begun <- struct{}{}
	<-s.let
	return nil
}

// Who waits at the same time waits for one flush, and nobody for one that had
// begun before.
func TestFlushTogether(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &slowFlush{Tree: &memory.Tree{}, begun: make(chan struct{}, 10), let: make(chan struct{})}
		e := &Endpoint{Tree: s}
		var group sync.WaitGroup
		flush := func(n int) {
			for range n {
				group.Go(func() {
					if err := e.Flush(t.Context()); err != nil {
						t.Error(err)
					}
				})
			}
			synctest.Wait()
		}
		flush(1)
		<-s.begun // the first flush is under way
		flush(50) // these have staged something that it may miss
		if n := s.flushes.Load(); n != 1 {
			t.Errorf("%d flushes at a time", n)
		}
		s.let <- struct{}{}
		<-s.begun
		s.let <- struct{}{}
		group.Wait()
		if n := s.flushes.Load(); n != 2 {
			t.Errorf("51 waited for %d flushes, want 2", n)
		}
	})
}

// Who gives up takes nothing from those who wait for the same.
func TestFlushOutlivesWhoAsked(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &slowFlush{Tree: &memory.Tree{}, begun: make(chan struct{}, 10), let: make(chan struct{})}
		e := &Endpoint{Tree: s}
		results := make(chan error, 2)
		first, giveUp := context.WithCancel(t.Context())
		go func() { results <- e.Flush(first) }()
		<-s.begun
		go func() { results <- e.Flush(first) }() // this one begins the flush that the next waits for
		synctest.Wait()
		live := make(chan error)
		go func() { live <- e.Flush(t.Context()) }()
		synctest.Wait()
		giveUp()
		for range 2 {
			if err := <-results; !errors.Is(err, context.Canceled) {
				t.Errorf("who gave up got %v", err)
			}
		}
		s.let <- struct{}{}
		<-s.begun
		s.let <- struct{}{}
		if err := <-live; err != nil {
			t.Errorf("who waited got %v", err)
		}
	})
}
