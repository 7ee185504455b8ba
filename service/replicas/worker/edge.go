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
	"bridgespan/mover/replication"
	"bridgespan/records"
	"bridgespan/service/replicas/edges"
	"bridgespan/service/replicas/sets"
	"bridgespan/tree"
)

// How often an edge is looked after: whether it is below its free-space line or something came, and its files by age.
const (
	edgeEvery   = 15 * time.Second
	edgeByAge   = time.Hour
	edgeWorkers = 4 // files that are offloaded or filled side by side
)

// asStub says whether a file that comes to a replica becomes a stub.
func (p *replicaWorker) asStub(name string, size int64, _ time.Time) bool {
	edge := p.snapshot().Edge
	if !edge.HasStubs() || size < offload.Least {
		return false
	}
	if never := edges.PolicyOf(edge).Never; never != nil && never(name) {
		return false
	}
	return !p.prefetches(name, size)
}

// mostPrefetched bounds what was prefetched and is not kept yet.
const mostPrefetched = 100_000

// prefetches reports whether the content of a file comes to an edge at once, and notes it then. The first fill has its own order,
// and nothing comes for which there is no room above the free-space line.
func (p *replicaWorker) prefetches(name string, size int64) bool {
	m := p.snapshot()
	if f := m.EdgeFigures; !m.Filled || f != nil && f.Free-size < f.Line || !edges.Prefetches(m.Edge, name, time.Now()) {
		return false
	}
	p.state.Lock()
	defer p.state.Unlock()
	if len(p.prefetched) < mostPrefetched {
		p.prefetched = append(p.prefetched, offload.Prefetched{Path: name, Bytes: size, At: sets.Now()})
	}
	return true
}

// edgeKeeper looks after the contents of an edge.
type edgeKeeper struct {
	*replicaWorker
	unused  map[string]*offload.Prefetched // what was prefetched and nobody has used yet; nil before it was read
	aged    time.Time                      // when files were last looked at by age
	carried int64                          // files that had come by the last pass
	policy  string                         // by which the last pass was

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
		}
		select {
		case <-ctx.Done():
			return
		case <-p.edited:
		case <-timer.C:
		}
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
	if text != k.policy {
		if err := k.SetEdge(ctx, &m); err != nil {
			return // opening it anew tells
		}
	}
	below := volume.Free < policy.Line(volume)
	k.forgetBusy(busyFor)
	if !below {
		k.forgetBusy(0)
	}
	news := carried != k.carried && !busy
	if !below && !news && text == k.policy && time.Since(k.aged) < edgeByAge {
		return
	}
	err = k.pass(ctx, m.Edge, policy, volume)
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
	news, err := k.newPrefetched(ctx)
	if err != nil {
		return err
	}
	err = k.files(ctx, func(f offload.File) error {
		survey.Add(&policy, f)
		if p := k.unused[f.Path]; p != nil && p.Look(f) {
			news[f.Path] = p
		}
		return nil
	})
	if err == nil {
		err = k.keepPrefetched(ctx, news)
	}
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

// fetch fills a stub.
func (k *edgeKeeper) fetch(ctx context.Context, f offload.File) error {
	err := tree.Fetch(ctx, k.tree, f.Path)
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

// newPrefetched reads what was prefetched, and returns what is not kept yet.
func (k *edgeKeeper) newPrefetched(ctx context.Context) (map[string]*offload.Prefetched, error) {
	if k.unused == nil {
		list, err := k.DB.Prefetched(ctx, replica.ID(k.ID))
		if err != nil {
			return nil, err
		}
		k.unused = map[string]*offload.Prefetched{}
		for i := range list {
			k.unused[list[i].Path] = &list[i]
		}
	}
	k.state.Lock()
	defer k.state.Unlock()
	news := map[string]*offload.Prefetched{}
	for i := range k.prefetched {
		p := &k.prefetched[i]
		k.unused[p.Path], news[p.Path] = p, p
	}
	k.prefetched = nil
	return news, nil
}

// keepPrefetched keeps what is new about what was prefetched.
func (k *edgeKeeper) keepPrefetched(ctx context.Context, news map[string]*offload.Prefetched) error {
	old := time.Now().Add(-offload.PrefetchKept)
	var list []offload.Prefetched
	for path, p := range news {
		list = append(list, *p)
		if !p.Used.IsZero() {
			delete(k.unused, path)
		}
	}
	for path, p := range k.unused {
		if p.At.Before(old) {
			delete(k.unused, path)
		}
	}
	if len(list) == 0 {
		return nil
	}
	return k.DB.Change(ctx, func(tx *records.Tx) error { return tx.StorePrefetched(ctx, replica.ID(k.ID), list, old) })
}
