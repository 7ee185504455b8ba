package worker

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"bridgespan/core/offload"
	"bridgespan/core/replica"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/mover/edge"
	"bridgespan/mover/replication"
	"bridgespan/service/replicas/edges"
	"bridgespan/service/replicas/sets"
	"bridgespan/tree"
)

// How often an edge is checked. The free space is checked often, since readers of stubs wait for space on a full volume.
const (
	edgeEvery = 3 * time.Second
	edgePause = 15 * time.Second // between two passes over all files
	edgeByAge = time.Hour
	// readsEvery is how often it is stored how much an edge has read from its bucket.
	readsEvery  = time.Minute
	edgeWorkers = 4 // files that are offloaded or filled side by side
)

// asStub decides whether a file that is new at an edge, or a stub there, is a stub after its transfer.
func (p *replicaWorker) asStub(name string, size int64, _ time.Time) bool {
	m := p.snapshot()
	return mayBeStub(m.Edge, name, size) && !prefetches(&m, name, size)
}

// mayBeStub reports whether the policy of an edge allows a file to be a stub.
func mayBeStub(edge *model.EdgePolicy, name string, size int64) bool {
	if !edge.HasStubs() || size < offload.Least {
		return false
	}
	never := edges.PolicyOf(edge).Never
	return never == nil || !never(name)
}

// prefetches reports whether an edge prefetches a file that could be a stub. The first fill has its own order, and nothing is prefetched
// below the free-space line.
func prefetches(m *model.Replica, name string, size int64) bool {
	if f := m.EdgeFigures; !m.Filled || f != nil && f.Free-size < f.Line {
		return false
	}
	return edges.Prefetches(m.Edge, name, time.Now())
}

// received notes a file that was prefetched.
func (p *replicaWorker) received(name string, size int64) {
	if m := p.snapshot(); mayBeStub(m.Edge, name, size) && prefetches(&m, name, size) {
		p.prefetched.add(name, size)
	}
}

// edgeKeeper looks after the contents of an edge.
type edgeKeeper struct {
	*replicaWorker
	aged    time.Time // when files were last looked at by age
	passed  time.Time // end of the last pass, or of the last attempt
	counted time.Time // when it was last stored how much was read from the bucket
	carried int64     // files that had come by the last pass
	policy  string    // by which the last pass was
	tried   string    // policy of the last attempt

	mu    sync.Mutex
	since time.Time       // when the first of them was noted
	busy  map[string]bool // files that could not become stubs while the volume is below its line: others go in their place
}

// policyWithoutBusy is the policy of the edge, which keeps what could not become a stub lately.
func (k *edgeKeeper) policyWithoutBusy(p *model.EdgePolicy) offload.Policy {
	policy := edges.PolicyOf(p)
	never := policy.Never
	policy.Never = func(path string) bool {
		k.mu.Lock()
		defer k.mu.Unlock()
		return k.busy[path] || never != nil && never(path)
	}
	return policy
}

// noteBusy notes a file that could not become a stub now; forgetBusy forgets all of them after a while.
func (k *edgeKeeper) noteBusy(path string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.busy == nil {
		k.busy, k.since = map[string]bool{}, time.Now()
	}
	if len(k.busy) < mostBusy {
		k.busy[path] = true
	}
}

func (k *edgeKeeper) forgetBusy(after time.Duration) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if time.Since(k.since) >= after {
		k.busy = nil
	}
}

// For how long files are noted, and how many at most.
const (
	busyFor  = 10 * time.Minute
	mostBusy = 100_000
)

// keepEdge looks after an edge until ctx ends.
func (p *replicaWorker) keepEdge(ctx context.Context) {
	if len(p.places) == 0 || p.places[0] == p || !p.places[0].snapshot().Swept {
		return
	}
	k := &edgeKeeper{replicaWorker: p}
	timer := time.NewTicker(edgeEvery)
	defer timer.Stop()
	for {
		if p.snapshot().Edge != nil && p.snapshot().Scanned {
			k.look(ctx)
			k.countReads(ctx)
		}
		select {
		case <-ctx.Done():
			return
		case <-p.edited:
		case <-timer.C:
		}
	}
}

// countReads stores now and then how much the edge has read from its bucket: the counter of its mover ends with it.
func (k *edgeKeeper) countReads(ctx context.Context) {
	if time.Since(k.counted) < readsEvery {
		return
	}
	k.counted = time.Now()
	m := k.snapshot()
	k.round.mu.Lock()
	name := k.round.set.Name
	k.round.mu.Unlock()
	set, err := k.DB.ReplicaSet(ctx, name)
	if err == nil {
		var status edge.Status
		status, err = k.CountReads(ctx, &set, &m)
		if f := m.EdgeFigures; err == nil && f != nil && f.FillsOn != string(status.FillsOn) {
			k.count(func(f *model.EdgeFigures) { f.FillsOn = string(status.FillsOn) })
		}
	}
	if err != nil && ctx.Err() == nil {
		slog.Debug("what an edge has read is not counted now", "replica", m.Name, "error", err)
	}
}

// look does what is to be done now.
func (k *edgeKeeper) look(ctx context.Context) {
	m := k.snapshot()
	space, err := k.tree.Space(ctx)
	if err != nil {
		return // its scans tell
	}
	volume, policy := offload.Volume{Total: space.Total, Free: space.Free}, k.policyWithoutBusy(m.Edge)
	carried, busy := k.arrived()
	text := sets.JsonText(m.Edge)
	below := volume.Free < policy.Line(volume)
	k.forgetBusy(busyFor)
	if !below {
		k.forgetBusy(0)
	}
	if time.Since(k.passed) < edgePause && text == k.tried {
		return
	}
	if text != k.policy {
		k.passed, k.tried = time.Now(), text
		if err := k.SetEdge(ctx, &m); err != nil {
			return // opening it anew tells
		}
	}
	news := carried != k.carried && !busy
	if !below && !news && text == k.policy && time.Since(k.aged) < edgeByAge {
		return
	}
	err = k.pass(ctx, m.Edge, policy, volume)
	k.passed = time.Now()
	if ctx.Err() != nil {
		return
	}
	if err != nil {
		slog.Warn("an edge could not be looked after", "replica", m.Name, "error", err)
		k.count(func(f *model.EdgeFigures) { f.Trouble = sets.Words(k.Explain(ctx, m.Server, err)) })
		return
	}
	k.aged, k.carried, k.policy = time.Now(), carried, text
}

// arrived is how many files have come to the replica, and whether some are on their way.
func (k *edgeKeeper) arrived() (files int64, busy bool) {
	for _, w := range k.ways {
		if w.id.To == replica.ID(k.ID) {
			files, busy = files+w.came.Load(), busy || w.snapshot().State == model.LaneCarrying
		}
	}
	return files, busy
}

// closed reports whether nothing may come from the bucket now.
func (k *edgeKeeper) closed() bool {
	for _, w := range k.ways {
		if w.id.To == replica.ID(k.ID) && w.snapshot().State == model.LaneClosed {
			return true
		}
	}
	return false
}

// count changes what is known of the edge.
func (k *edgeKeeper) count(change func(*model.EdgeFigures)) {
	k.update(func(m *model.Replica) {
		f := model.EdgeFigures{}
		if m.EdgeFigures != nil {
			f = *m.EdgeFigures
		}
		change(&f)
		m.EdgeFigures = &f
	})
	sets.Ring(k.dirty)
}

// files yields the files of the edge that belong to the set.
func (k *edgeKeeper) files(ctx context.Context, do func(offload.File) error) error {
	return edges.Files(ctx, k.tree, ".", k.round.engine.LeaveOut, do)
}

// pass counts what the edge holds, decides, and does it.
func (k *edgeKeeper) pass(ctx context.Context, edge *model.EdgePolicy, policy offload.Policy, volume offload.Volume) error {
	var survey offload.Survey
	err := k.prefetched.look(ctx, k.DB, replica.ID(k.ID), func(seen func(offload.File)) error {
		return k.files(ctx, func(f offload.File) error {
			survey.Add(&policy, f)
			seen(f)
			return nil
		})
	})
	if err != nil {
		return err
	}
	goes := survey.Decide(policy, volume, time.Now())
	if !edge.HasStubs() {
		goes = &offload.Decision{}
	}
	comes := &offload.Decision{}
	switch {
	case k.closed():
	case edge.Fill == model.FillNames:
		comes = survey.Fills(policy, volume)
	case edge.Fill == model.FillWhole:
		comes = offload.FillAll()
	}
	k.count(func(f *model.EdgeFigures) {
		f.At, f.Whole, f.WholeBytes, f.Stubs, f.StubBytes = sets.Now(), survey.Whole.Files, survey.Whole.Bytes, survey.Stubs.Files, survey.Stubs.Bytes
		f.Kept, f.KeptBytes, f.Total, f.Free, f.Line, f.Short, f.Trouble = survey.Kept.Files, survey.Kept.Bytes, volume.Total, volume.Free, policy.Line(volume), goes.Short, ""
	})
	return k.carryOut(ctx, goes, comes, volume.Free-policy.Line(volume))
}

// carryOut offloads and fills what was decided. room is how many bytes may be filled.
func (k *edgeKeeper) carryOut(ctx context.Context, goes, comes *offload.Decision, room int64) error {
	if goes.Idle() && comes.Idle() {
		return nil
	}
	group, run := guard.WithContext(ctx)
	group.SetLimit(edgeWorkers)
	var left atomic.Int64
	left.Store(room)
	err := k.files(run, func(f offload.File) error {
		switch {
		case goes.Offloads(f):
			group.Go(func() error { return k.offload(run, f) })
		case comes.Fetches(f):
			group.Go(func() error {
				if left.Add(-f.Size) < 0 {
					return nil
				}
				return k.fetch(run, f)
			})
		}
		return nil
	})
	return errors.Join(group.Wait(), err)
}

// offload makes a stub of a file, unless that has to wait.
func (k *edgeKeeper) offload(ctx context.Context, f offload.File) error {
	freed, err := k.round.engine.Offload(ctx, replica.ID(k.ID), replica.ID(k.places[0].ID), f.Path)
	switch {
	case replication.IsLater(err), errors.Is(err, tree.ErrInUse), errors.Is(err, tree.ErrVersion):
		k.noteBusy(f.Path) // another time
		return nil
	case err != nil:
		return fmt.Errorf("offload %s: %w", f.Path, err)
	}
	k.count(func(m *model.EdgeFigures) {
		m.Offloaded, m.OffloadedBytes = m.Offloaded+1, m.OffloadedBytes+freed
		m.Whole, m.WholeBytes, m.Stubs, m.StubBytes, m.Free = m.Whole-1, m.WholeBytes-f.Allocated, m.Stubs+1, m.StubBytes+f.Size, m.Free+freed
	})
	return nil
}

// fetchedAtOnce is how much of a file is fetched before the calendar and the speed of the lane are looked at again.
const fetchedAtOnce = 16 << 20

// fetch fills a stub, within the calendar and the speed of the lane that leads to the edge.
func (k *edgeKeeper) fetch(ctx context.Context, f offload.File) error {
	err := tree.FetchParts(ctx, k.tree, f.Path, f.Size, fetchedAtOnce, func(n int64) error { return k.round.share(ctx, k.replicaWorker, n) })
	if errors.Is(err, tree.ErrNoContent) || errors.Is(err, tree.ErrNoSpace) {
		return nil // what the bucket has by now is on its way; or people were quicker
	}
	if err != nil {
		return fmt.Errorf("fetch %s: %w", f.Path, err)
	}
	k.count(func(m *model.EdgeFigures) {
		m.Fetched++
		m.Whole, m.WholeBytes, m.Stubs, m.StubBytes, m.Free = m.Whole+1, m.WholeBytes+f.Size, m.Stubs-1, m.StubBytes-f.Size, m.Free-f.Size
	})
	return nil
}
