package attack

import (
	"sync/atomic"
	"testing"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/finding"
	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/standin/tamper"
)

// holding stands before a file server, lets answers through late, and none while it is held.
type holding struct {
	*tamper.Proxy
	late atomic.Int64 // by how many nanoseconds
	gate atomic.Pointer[chan struct{}]
}

func holdBefore(t *testing.T, e *harness.Estate, name string) *holding {
	t.Helper()
	h := &holding{}
	var err error
	h.Proxy, err = tamper.Start(e.Elm.HostPort(), nil, func(m []byte) []byte {
		time.Sleep(time.Duration(h.late.Load()))
		if gate := h.gate.Load(); gate != nil {
			<-*gate
		}
		return m
	})
	must(t, err)
	t.Cleanup(h.Stop)
	t.Cleanup(h.release)
	n := harness.NewServer(name, "Upland", e.Elm)
	n.Address, n.Port = harness.SplitHostPort(t, h.Address())
	_, err = e.API.AddServer(t.Context(), n)
	must(t, err)
	return h
}

func (h *holding) hold() {
	gate := make(chan struct{})
	h.gate.Store(&gate)
}

func (h *holding) release() {
	if gate := h.gate.Swap(nil); gate != nil {
		close(*gate)
	}
}

// A run of any kind that works with file servers stops within 5 seconds, also while a
// server has taken a request and answers nothing.
func testRunsStop(t *testing.T, e *harness.Estate) {
	fen := holdBefore(t, e, "fen")
	for kind, start := range runsAt(t, e, "fen") {
		fen.late.Store(int64(80 * time.Millisecond)) // so that it is held in the middle of its work
		id, err := start()
		if err != nil {
			t.Errorf("%s: %v", kind, err)
			continue
		}
		awaitRun(t, e, id, model.RunRunning)
		fen.hold()
		asked := time.Now()
		_, err = e.API.StopRun(t.Context(), id)
		must(t, err)
		awaitRun(t, e, id, model.RunStopped)
		if took := time.Since(asked); took > 5*time.Second {
			t.Errorf("%s: it took %v to stop", kind, took)
		}
		fen.late.Store(0)
		fen.release()
		if check, err := e.API.CheckServer(t.Context(), "fen"); err != nil || check.Outcome == finding.Fail {
			t.Errorf("%s: after that the server is %+v, %v", kind, check.Lines, err)
		}
	}
	must(t, e.API.RemoveServer(t.Context(), "fen", false))
}

// runsAt are the kinds of runs that work with a file server, by name.
func runsAt(t *testing.T, e *harness.Estate, server string) map[string]func() (int64, error) {
	ctx, place := t.Context(), server+"/store"
	return map[string]func() (int64, error){
		"survey": func() (int64, error) {
			runs, err := e.API.StartSurveys(ctx, model.SurveyPlace{Server: server, Share: "store"})
			if err != nil {
				return 0, err
			}
			return runs[0].ID, nil
		},
		"who-can": func() (int64, error) {
			w, err := e.API.StartWhoCan(ctx, model.AskWhoCan{Path: place, Level: acl.Read})
			return w.Run.ID, err
		},
		"compare": func() (int64, error) {
			c, err := e.API.StartComparison(ctx, place, "elm/quiet")
			return c.Run.ID, err
		},
		"rights": func() (int64, error) {
			c, err := e.API.ChangeRights(ctx, model.ChangeRights{Path: place, Action: model.RightsGrant, Account: "ada", Level: acl.Read})
			return c.Run.ID, err
		},
		"estimate": func() (int64, error) {
			r, err := e.API.StartEstimate(ctx, model.NewEstimate{Name: "held", Places: []model.DedupPlace{{Server: server, Share: "store"}}})
			return r.Run.ID, err
		},
		"plan": func() (int64, error) {
			p, err := e.API.PlanReplicaSet(ctx, model.NewReplicaSet{Name: "held", Replicas: []model.NewReplica{{Server: server, Share: "store", Sub: "planned"}, {Server: "elm", Share: "quiet", Sub: "planned"}}})
			return p.Run.ID, err
		},
	}
}

func awaitRun(t *testing.T, e *harness.Estate, id int64, state model.RunState) model.Run {
	t.Helper()
	for deadline := time.Now().Add(30 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		r, err := e.API.Run(t.Context(), id)
		must(t, err)
		if r.State == state {
			return r
		}
		if r.State.Ended() || time.Now().After(deadline) {
			t.Fatalf("run %d is %+v, want %s", id, r, state)
		}
	}
}
