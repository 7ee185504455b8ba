package e2e

import (
	"database/sql"
	"flag"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/tree"
)

var takeOvers = flag.Int("takeovers", 2, "how often TestTakeOver lets an instance be replaced at its work")

// TestTakeOver lets two instances of the service work on one replica set while people work
// in it. The one that is at work is killed, or stands still until the other one has taken
// over, and goes on then where it stood. In the end both replicas are the same, nothing is
// lost, and nothing is left in the intakes.
func TestTakeOver(t *testing.T) {
	t.Setenv("BSPAND_TAKE_OVER", "2s")
	e := harness.StartEstate(t)
	db := openRecords(t, e)
	s := newStorm(t, e, db, model.NewReplicaSet{Name: "relay", Replicas: []model.NewReplica{{Server: "oak", Share: "store", Sub: "relay"}, {Server: "elm", Share: "store", Sub: "relay"}}},
		map[string]func() tree.Tree{
			"oak": func() tree.Tree { return harness.TreeIn(t, e.Oak, "store", "relay") },
			"elm": func() tree.Tree { return harness.TreeIn(t, e.Elm, "store", "relay") }}, 25)
	other := e.Another(t, "Upland")
	at := &worker{T: t, pool: openPool(t, e)}
	var stop atomic.Bool
	var people sync.WaitGroup
	people.Go(func() {
		for n := 0; !stop.Load() && !t.Failed(); n++ {
			s.step(n)
		}
	})
	killed, frozen := 0, 0
	for i := range *takeOvers {
		who := at.work(e.PID(), other.PID())
		at.busy() // it is in the middle of something
		if who == other.PID() && i%2 == 1 {
			killed++
			other.Kill()
			at.work(e.PID())
			other = e.Another(t, "Upland")
			continue
		}
		frozen++
		one, next := e.Service, other
		if who == other.PID() {
			one, next = other, e.Service
		}
		if err := one.Freeze(); err != nil {
			t.Fatal(err)
		}
		at.work(next.PID())
		at.busy() // the other one has gone on with what the first had begun
		if err := one.Thaw(); err != nil {
			t.Fatal(err)
		}
	}
	stop.Store(true)
	people.Wait()
	t.Logf("one that was at work was killed %d times, and stood still %d times", killed, frozen)
	s.settles(2 * time.Minute)
	for _, name := range s.names {
		for entry, err := range tree.Walk(t.Context(), s.trees[name], ".bspan/intake", tree.Plain) {
			if err == nil && entry.Kind == tree.File {
				t.Errorf("in the intake of %s is %s", name, entry.Path)
			}
		}
	}
}

// worker tells who works on the one replica set.
type worker struct {
	*testing.T
	pool *sql.DB
}

func openPool(t *testing.T, e *harness.Estate) *sql.DB {
	t.Helper()
	pool, err := sql.Open("mysql", e.Database.DSN("bridgespan"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { pool.Close() })
	return pool
}

// work waits until one of some processes works on the set, and tells which.
func (w *worker) work(pids ...int) (who int) {
	w.Helper()
	await(w.T, fmt.Sprintf("one of %v to work", pids), func() bool {
		var holder string
		if w.pool.QueryRowContext(w.Context(), `SELECT holder FROM leases WHERE name LIKE 'replica set %' AND expires > UTC_TIMESTAMP(6)`).Scan(&holder) != nil {
			return false
		}
		for _, pid := range pids {
			if strings.Contains(holder, fmt.Sprintf("/%d/", pid)) {
				who = pid
				return true
			}
		}
		return false
	})
	return who
}

// busy waits until something is on its way.
func (w *worker) busy() {
	w.Helper()
	await(w.T, "something on its way", func() bool {
		var n int
		return w.pool.QueryRowContext(w.Context(), `SELECT COUNT(*) FROM replica_begun`).Scan(&n) == nil && n > 0
	})
}
