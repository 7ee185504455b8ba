package e2e

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"bridgespan/client"
	"bridgespan/e2e/harness"
	"bridgespan/model"
)

// The database is killed, again and again, while several clients make changes.
// No change that was acknowledged is lost, directions are given all the while,
// and the service goes on by itself.
func TestDatabaseKilledUnderLoad(t *testing.T) {
	e := harness.StartEstate(t)
	if _, err := e.API.Where(t.Context(), "/garden/store", "Upland", ""); err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	var mu sync.Mutex
	acknowledged := map[string]bool{}
	var done, failed atomic.Int64
	progress := make(chan struct{}, 1)
	var group sync.WaitGroup
	for worker := range 4 {
		group.Go(func() {
			for i := 0; ctx.Err() == nil; i++ {
				name := fmt.Sprintf("Site %d-%d", worker, i)
				if _, err := e.API.AddSite(ctx, model.NewSite{Name: name}); err != nil {
					failed.Add(1)
					continue
				}
				mu.Lock()
				acknowledged[name] = true
				mu.Unlock()
				done.Add(1)
				select {
				case progress <- struct{}{}:
				default:
				}
			}
		})
	}
	awaitMore := func(n int64) {
		t.Helper()
		deadline := time.After(60 * time.Second)
		for target := done.Load() + n; done.Load() < target; {
			select {
			case <-progress:
			case <-deadline:
				t.Fatalf("%d changes done, %d failed, then no more", done.Load(), failed.Load())
			}
		}
	}
	for range 3 {
		awaitMore(40)
		e.Database.Kill()
		gateway := person(t, e, "ada")
		if a := gateway.do("GET", ledger, nil); a.status != 200 {
			t.Errorf("reading through the gateway while the database is away: %d %s", a.status, a.body)
		}
		if err := (&client.Client{Base: e.Base}).Ready(t.Context()); err == nil {
			t.Error("the service says that it is ready while the database is away")
		}
		if err := e.Database.Restart(); err != nil {
			t.Fatal(err)
		}
	}
	awaitMore(40)
	stop()
	group.Wait()
	sites, err := e.API.Sites(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range sites {
		delete(acknowledged, s.Name)
	}
	if len(acknowledged) > 0 {
		t.Errorf("%d acknowledged changes are lost: %v", len(acknowledged), acknowledged)
	}
	if failed.Load() == 0 {
		t.Error("the outage was never felt: the test shows nothing")
	}
	t.Logf("%d changes acknowledged, %d refused during three outages", done.Load(), failed.Load())
}
