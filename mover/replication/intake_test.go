package replication

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"
	"testing/synctest"

	"bridgespan/core/replica"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

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
