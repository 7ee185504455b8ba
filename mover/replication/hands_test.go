package replication

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"bridgespan/core/replica"
	"bridgespan/tree"
	"bridgespan/tree/memory"
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

// However many errands are under way, few work; who waits lets others work.
func TestHands(t *testing.T) {
	h := newHands(2)
	var working, large gauge
	var rested atomic.Int64
	var group sync.WaitGroup
	gate := make(chan struct{})
	for i := range 200 {
		group.Go(func() {
			_ = h.work(func() error {
				working.in()
				working.out()
				_ = h.rest(func() error { rested.Add(1); <-gate; return nil })
				return h.file(int64(i%2)*2*smallFile, func() error {
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
		r := &Replica{ID: 1, Tree: s}
		e := &Engine{Replicas: []*Replica{r}}
		var group sync.WaitGroup
		flush := func(n int) {
			for range n {
				group.Go(func() {
					if err := e.flush(t.Context(), r); err != nil {
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
		r := &Replica{ID: 1, Tree: s}
		e := &Engine{Replicas: []*Replica{r}}
		results := make(chan error, 2)
		first, giveUp := context.WithCancel(t.Context())
		go func() { results <- e.flush(first, r) }()
		<-s.begun
		go func() { results <- e.flush(first, r) }() // this one begins the flush that the next waits for
		synctest.Wait()
		live := make(chan error)
		go func() { live <- e.flush(t.Context(), r) }()
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

// slowRecords is a store that answers when it is let.
type slowRecords struct {
	Store
	asked, let chan struct{}
}

func (s *slowRecords) Get(ctx context.Context, r replica.ID, keys ...string) ([]replica.Record, error) {
	s.asked <- struct{}{}
	select {
	case <-s.let:
		return s.Store.Get(ctx, r, keys...)
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func TestRecordOutlivesWhoAsked(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &slowRecords{newMemoryStore(), make(chan struct{}, 1), make(chan struct{})}
		r := &Replica{ID: 1, Tree: &memory.Tree{}}
		e := &Engine{Store: s, Replicas: []*Replica{r}}
		ctx, giveUp := context.WithCancel(t.Context())
		first, live := make(chan error), make(chan error)
		go func() { _, err := e.folderRecord(ctx, r, "beds"); first <- err }()
		<-s.asked
		go func() { _, err := e.folderRecord(t.Context(), r, "beds"); live <- err }()
		synctest.Wait()
		giveUp()
		if err := <-first; !errors.Is(err, context.Canceled) {
			t.Errorf("who gave up got %v", err)
		}
		s.let <- struct{}{}
		if err := <-live; err != nil {
			t.Errorf("who waited got %v", err)
		}
	})
}

// No more than the quota is in an intake at a time, but for a file that is larger
// by itself.
func TestIntakeQuota(t *testing.T) {
	intake := &memory.Tree{}
	p := newPair(t, &memory.Tree{}, intake)
	p.Replicas[1].Intake = 250
	var mu sync.Mutex
	most := int64(0)
	intake.Fault = func(step, name string) error {
		if step != "flush" {
			return nil
		}
		mu.Lock()
		defer mu.Unlock()
		sum, files := int64(0), 0
		for e, err := range tree.Walk(context.Background(), intake, intakeFolder, tree.Plain) {
			if err == nil && e.Kind == tree.File {
				sum, files = sum+e.Size, files+1
			}
		}
		if files > 1 || sum != 400 { // the larger one has it alone
			most = max(most, sum)
		}
		return nil
	}
	for i := range 30 {
		put(t, p.a, fmt.Sprintf("file %d", i), string(make([]byte, 100)))
	}
	put(t, p.a, "larger", string(make([]byte, 400)))
	p.settleDown()
	p.same()
	if most > 250 || most == 0 {
		t.Errorf("%d bytes waited in the intake at a time", most)
	}
	if used, full := p.Intake(p.Replicas[1].ID); used != 0 || !full.IsZero() {
		t.Errorf("afterwards %d bytes are on their way in, and something waits since %s", used, full)
	}
}

// An intake tells since when the first of those waits for whom there is no room.
func TestIntakeFull(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		e := &Engine{Now: time.Now}
		r := &Replica{ID: 7, Intake: 100}
		began := time.Now()
		enter := func(bytes int64) func() {
			leave, err := e.enterIntake(t.Context(), r, bytes)
			if err != nil {
				t.Error(err)
			}
			return leave
		}
		tell := func(used int64, full time.Time) {
			t.Helper()
			synctest.Wait()
			if u, f := e.Intake(7); u != used || !f.Equal(full) {
				t.Errorf("%d bytes, full since %v; want %d, %v", u, f, used, full)
			}
		}
		first := enter(60)
		tell(60, time.Time{})
		time.Sleep(time.Minute)
		second, third := make(chan func(), 1), make(chan func(), 1)
		go func() { second <- enter(300) }() // more than all of it
		synctest.Wait()
		time.Sleep(time.Minute)
		go func() { third <- enter(50) }()
		tell(60, began.Add(time.Minute))
		first()
		leave := <-second
		tell(100, began.Add(time.Minute))
		leave()
		leave = <-third
		tell(50, time.Time{})
		leave()
		tell(0, time.Time{})
	})
}
