package e2e

import (
	"flag"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/standin/leg"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/folder"
)

var soak = flag.Duration("soak", 0, "how long TestSoak lets people work; it is skipped without")

// soaking is a set of the soak: where its replicas are, by name.
type soaking struct {
	asked model.NewReplicaSet
	open  map[string]func() tree.Tree
}

// TestSoak lets people work at random for long in sets of all kinds at the same time:
// a mesh, a hub and a chain of three, a mover's folder, a set whose permissions go through
// an account map, and one behind a slow leg. Lanes are closed and opened meanwhile, and
// sets are edited, paused and resumed. In the end each set keeps the promises.
func TestSoak(t *testing.T) {
	if *soak == 0 {
		t.Skip("it takes as long as -soak says: make soak")
	}
	e := harness.StartEstate(t)
	db := openRecords(t, e)
	end := loaded(t, 2)
	var storms []*storm
	for i, s := range soakSets(t, e) {
		storms = append(storms, newStorm(t, e, db, s.asked, s.open, uint64(i+1)))
	}
	until := time.Now().Add(*soak)
	var people sync.WaitGroup
	for i, s := range storms {
		people.Go(func() {
			random := rand.New(rand.NewPCG(uint64(i), 29))
			for n := 0; time.Now().Before(until) && !t.Failed(); n++ {
				s.step(n)
				if n%50 == 49 {
					s.unrest(random)
				}
			}
		})
	}
	people.Wait()
	end()
	for _, s := range storms {
		s.calm()
	}
	for _, s := range storms {
		s.settles(10 * time.Minute)
	}
}

// unrest is what an administrator does meanwhile. What is refused, since the set was
// changed by somebody else, is not done.
func (s *storm) unrest(random *rand.Rand) {
	ctx := s.Context()
	set, err := s.api.ReplicaSet(ctx, s.set)
	if err != nil {
		return
	}
	l := set.Lanes[random.IntN(len(set.Lanes))]
	yes, no := true, false
	switch random.IntN(5) {
	case 0:
		_, _ = s.api.EditLane(ctx, s.set, l.From, l.To, model.EditLane{Closed: &yes})
	case 1:
		_, _ = s.api.EditLane(ctx, s.set, l.From, l.To, model.EditLane{Closed: &no})
	case 2:
		_, _ = s.api.EditReplicaSet(ctx, s.set, model.EditReplicaSet{Paused: &yes})
		_, _ = s.api.EditReplicaSet(ctx, s.set, model.EditReplicaSet{Paused: &no})
	case 3:
		retry := model.Retry{FirstS: 1 + random.IntN(5), MostS: 60, AlertAfter: 5}
		_, _ = s.api.EditReplicaSet(ctx, s.set, model.EditReplicaSet{Retry: &retry})
	case 4:
		_ = s.api.LookAtReplicas(ctx, s.set, "")
	}
}

// calm opens all lanes of the set, and resumes it.
func (s *storm) calm() {
	s.Helper()
	no := false
	set, err := s.api.EditReplicaSet(s.Context(), s.set, model.EditReplicaSet{Paused: &no})
	if err != nil {
		s.Fatal(err)
	}
	for _, l := range set.Lanes {
		if _, err := s.api.EditLane(s.Context(), s.set, l.From, l.To, model.EditLane{Closed: &no}); err != nil {
			s.Fatal(err)
		}
	}
}

// soakSets are the sets of the soak, at servers that are added for it.
func soakSets(t *testing.T, e *harness.Estate) []soaking {
	t.Helper()
	add := func(n model.NewServer) {
		t.Helper()
		if _, err := e.API.AddServer(t.Context(), n); err != nil {
			t.Fatal(err)
		}
	}
	reed := harness.StartMover(t)
	add(reed.NewServer("reed", "Upland"))
	ash := standintest.StrangeFileServer(t, "ash", "store")
	add(harness.NewServer("ash", "Upland", ash))
	far, err := leg.Start("127.0.0.1:0", e.Elm.HostPort(), 20, 55*time.Millisecond)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(far.Stop)
	behind := harness.NewServer("far", "Upland", e.Elm)
	behind.Address, behind.Port = harness.SplitHostPort(t, far.Address())
	add(behind)
	if _, err := e.API.AddAccountMap(t.Context(), model.NewAccountMap{Name: "trees", Rules: []string{`oak\* = ash\*`}}); err != nil {
		t.Fatal(err)
	}
	oak := func(sub string) func() tree.Tree {
		return func() tree.Tree { return harness.TreeIn(t, e.Oak, "store", sub) }
	}
	elm := func(share, sub string) func() tree.Tree {
		return func() tree.Tree { return harness.TreeIn(t, e.Elm, share, sub) }
	}
	var sets []soaking
	for _, layout := range []string{model.LayoutMesh, model.LayoutHub, model.LayoutChain} {
		sets = append(sets, soaking{model.NewReplicaSet{Name: layout, Layout: layout, Replicas: []model.NewReplica{
			{Name: "a", Server: "oak", Share: "store", Sub: layout}, {Name: "b", Server: "elm", Share: "store", Sub: layout}, {Name: "c", Server: "elm", Share: "quiet", Sub: layout}}},
			map[string]func() tree.Tree{"a": oak(layout), "b": elm("store", layout), "c": elm("quiet", layout)}})
	}
	host := func() tree.Tree {
		f, err := folder.Open(reed.Folder + "/soak")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { f.Close() })
		return f
	}
	return append(sets,
		soaking{model.NewReplicaSet{Name: "host", Replicas: []model.NewReplica{{Name: "a", Server: "oak", Share: "store", Sub: "host"}, {Name: "b", Server: "reed", Share: "beds", Sub: "soak"}}},
			map[string]func() tree.Tree{"a": oak("host"), "b": host}},
		soaking{model.NewReplicaSet{Name: "mapped", Permissions: model.PermissionsMap, AccountMap: "trees", Replicas: []model.NewReplica{{Name: "a", Server: "oak", Share: "store", Sub: "mapped"}, {Name: "b", Server: "ash", Share: "store", Sub: "mapped", Rights: "seed"}}},
			map[string]func() tree.Tree{"a": oak("mapped"), "b": func() tree.Tree { return harness.TreeIn(t, ash, "store", "mapped") }}},
		soaking{model.NewReplicaSet{Name: "slow", Replicas: []model.NewReplica{{Name: "a", Server: "oak", Share: "store", Sub: "slow"}, {Name: "b", Server: "far", Share: "store", Sub: "slow"}}},
			map[string]func() tree.Tree{"a": oak("slow"), "b": elm("store", "slow")}})
}
