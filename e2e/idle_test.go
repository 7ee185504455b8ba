package e2e

import (
	"flag"
	"fmt"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/tree"
)

var idle = flag.Duration("idle", 0, "how long TestIdle looks at sets in which nothing happens; it is skipped without")

// What 20 replica sets may take in which nothing happens.
const (
	idleSets      = 20
	mostIdleCPU   = 0.02 // of one core, by the service and the database together
	mostIdleReads = 32   // of the database, a set and minute: a tenth of what it once was
)

// TestIdle looks at what sets take in which nothing happens.
func TestIdle(t *testing.T) {
	if *idle == 0 {
		t.Skip("it takes as long as -idle says: make soak-idle")
	}
	e := harness.StartEstate(t)
	pool := openPool(t, e)
	for i := range idleSets {
		name := fmt.Sprint("still-", i)
		for _, at := range []tree.Tree{harness.Tree(t, e.Oak, "store"), harness.Tree(t, e.Elm, "store")} {
			if err := at.Mkdir(t.Context(), name); err != nil {
				t.Fatal(err)
			}
		}
		if _, err := harness.Tree(t, e.Oak, "store").Put(t.Context(), name+"/a.txt", strings.NewReader(name), tree.PutOptions{}); err != nil {
			t.Fatal(err)
		}
		if _, err := e.API.CreateReplicaSet(t.Context(), model.NewReplicaSet{Name: name, Replicas: []model.NewReplica{{Server: "oak", Share: "store", Sub: name}, {Server: "elm", Share: "store", Sub: name}}}, nil); err != nil {
			t.Fatal(err)
		}
	}
	await(t, "the sets to be the same", func() bool {
		sets, err := e.API.ReplicaSets(t.Context())
		for _, set := range sets {
			if set.State != model.SetSteady {
				return false
			}
		}
		return err == nil && len(sets) == idleSets
	})
	reads := func() (n float64) {
		var name string
		if err := pool.QueryRowContext(t.Context(), `SHOW GLOBAL STATUS LIKE 'Com_select'`).Scan(&name, &n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	measure := func(most time.Duration) (service, database, asks float64) {
		began, worked, stored, had := time.Now(), cpuTime(t, e.PID()), cpuTime(t, e.Database.PID()), reads()
		<-time.After(most) // what is measured is what happens when nothing does
		took := time.Since(began)
		return (cpuTime(t, e.PID()) - worked).Seconds() / took.Seconds(), (cpuTime(t, e.Database.PID()) - stored).Seconds() / took.Seconds(), (reads() - had) / took.Minutes() / idleSets
	}
	measure(5 * time.Minute) // until all rest for as long as they may
	service, database, asks := measure(*idle)
	t.Logf("%d sets take %.2f%% of a core in the service and %.2f%% in the database, and %.1f reads a set and minute", idleSets, 100*service, 100*database, asks)
	if service+database > mostIdleCPU || asks > mostIdleReads {
		t.Errorf("that is more than %.2f%% of a core or %d reads", 100*mostIdleCPU, mostIdleReads)
	}
}

// cpuTime is how long a process has worked on all cores: proc(5), fields 14 and 15 of stat, in
// hundredths of a second.
func cpuTime(t *testing.T, pid int) time.Duration {
	t.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		t.Fatal(err)
	}
	fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:])) // from the third on
	var ticks int64
	for _, field := range fields[11:13] {
		n, err := strconv.ParseInt(field, 10, 64)
		if err != nil {
			t.Fatal(err)
		}
		ticks += n
	}
	return time.Duration(ticks) * 10 * time.Millisecond
}
