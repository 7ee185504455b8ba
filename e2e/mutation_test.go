package e2e

import (
	"flag"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/standin/tamper"
	"bridgespan/tree"
	"bridgespan/tree/folder"
)

var mutate = flag.Duration("mutate", 5*time.Second, "how long TestMutations changes messages")

// mutateMost is for how long messages are changed until somebody looks at the servers.
const mutateMost = 5 * time.Second

// TestMutations changes messages at random, between the service and a file server, and
// those of a mover, while people work in two replica sets over both. No process ends by
// it. When all messages pass as they are again, both sets keep the promises.
func TestMutations(t *testing.T) {
	t.Parallel()
	e := harness.StartEstate(t)
	wire, mover := &tamper.Mutator{}, &tamper.Mutator{}
	reed := harness.StartMover(t)
	storms := mutatedSets(t, e, reed, wire, mover)
	until := time.Now().Add(*mutate)
	// On a busy machine it may take longer until any message was changed.
	goesOn := func() bool {
		now := time.Now()
		return !t.Failed() && (now.Before(until) || (wire.Changed() == 0 || mover.Changed() == 0) && now.Before(until.Add(2*time.Minute)))
	}
	var people sync.WaitGroup
	var steps atomic.Int64
	for _, s := range storms {
		people.Go(func() {
			for n := 0; goesOn(); n++ {
				s.step(n)
				steps.Add(1)
			}
		})
	}
	for seed := uint64(1); goesOn(); seed++ {
		wire.Begin(seed, 100)
		mover.Begin(seed, 10)
		for _, s := range storms {
			_ = s.api.LookAtReplicas(t.Context(), s.set, "")
		}
		wires, movers, began := wire.Changed(), mover.Changed(), time.Now()
		await(t, "messages to be changed", func() bool { // of a server that is left alone none pass
			return wire.Changed() >= wires+5 && mover.Changed() > movers || time.Since(began) > mutateMost || !goesOn()
		})
		wire.End()
		mover.End()
		// Who sends nonsense is left alone for an hour, unless somebody has looked.
		for _, name := range []string{"fen", "reed"} {
			trusted(t, e, name)
		}
	}
	people.Wait()
	if wire.Changed() == 0 || mover.Changed() == 0 {
		t.Errorf("%d messages of the server and %d of the mover were changed", wire.Changed(), mover.Changed())
	}
	t.Logf("%d messages of a file server and %d of a mover were changed; people did %d things", wire.Changed(), mover.Changed(), steps.Load())
	if err := e.API.Ready(t.Context()); err != nil {
		t.Errorf("the service: %v", err)
	}
	for _, s := range storms {
		s.settles(6 * time.Minute)
	}
}

// trusted checks a server by hand until it comes out well.
func trusted(t *testing.T, e *harness.Estate, name string) {
	t.Helper()
	await(t, name+" to be trusted", func() bool {
		_, err := e.API.CheckServer(t.Context(), name)
		v, bad := e.API.Server(t.Context(), name)
		return err == nil && bad == nil && v.Untrusted == nil && v.Reachable != nil && *v.Reachable
	})
}

// await asks until something is so.
func await(t *testing.T, what string, is func() bool) {
	t.Helper()
	for deadline := time.Now().Add(2 * time.Minute); !is(); time.Sleep(50 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("waited for %s in vain", what)
		}
	}
}

// mutatedSets are a set over a file server whose messages pass through a mutator, and one
// over a mover whose answers do. What files hold passes as it is: who is trusted to hold a
// replica says what its files hold.
func mutatedSets(t *testing.T, e *harness.Estate, reed *harness.Mover, wire, mover *tamper.Mutator) []*storm {
	t.Helper()
	between, err := tamper.Start(e.Elm.HostPort(), wire.Message, wire.Message)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(between.Stop)
	fen := harness.NewServer("fen", "Upland", e.Elm)
	fen.Address, fen.Port = harness.SplitHostPort(t, between.Address())
	before := tamper.StartMover(reed.HostPort(), func(call string, answer []byte) []byte {
		if call == "read" {
			return answer
		}
		return mover.Lines(answer, call == "list")
	})
	t.Cleanup(before.Stop)
	host := reed.NewServer("reed", "Upland")
	host.Address, host.Port = harness.SplitHostPort(t, before.Address())
	host.Certificate = before.Fingerprint()
	for _, n := range []model.NewServer{fen, host} {
		if _, err := e.API.AddServer(t.Context(), n); err != nil {
			t.Fatal(err)
		}
	}
	db := openRecords(t, e)
	oak := func(sub string) func() tree.Tree {
		return func() tree.Tree { return harness.TreeIn(t, e.Oak, "store", sub) }
	}
	onHost := func() tree.Tree {
		f, err := folder.Open(reed.Folder + "/mutated")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { f.Close() })
		return f
	}
	return []*storm{
		newStorm(t, e, db, model.NewReplicaSet{Name: "wire", Replicas: []model.NewReplica{{Name: "a", Server: "oak", Share: "store", Sub: "wire"}, {Name: "b", Server: "fen", Share: "store", Sub: "wire"}}},
			map[string]func() tree.Tree{"a": oak("wire"), "b": func() tree.Tree { return harness.TreeIn(t, e.Elm, "store", "wire") }}, 1),
		newStorm(t, e, db, model.NewReplicaSet{Name: "host", Replicas: []model.NewReplica{{Name: "a", Server: "oak", Share: "store", Sub: "host"}, {Name: "b", Server: "reed", Share: "beds", Sub: "mutated"}}},
			map[string]func() tree.Tree{"a": oak("host"), "b": onHost}, 2),
	}
}
