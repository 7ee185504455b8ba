package worker

import (
	"context"
	"crypto/rand"
	"log/slog"
	"reflect"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/filter"
	"bridgespan/core/namespace"
	"bridgespan/core/replica"
	"bridgespan/guard"
	"bridgespan/model"
	"bridgespan/mover/replication"
	"bridgespan/service/replicas/sets"
	"bridgespan/service/work"
	"bridgespan/tree"
	"bridgespan/tree/redial"
	"bridgespan/tree/smb"
	"bridgespan/tree/spread"
)

// keeper works on one set: each replica is looked at, and each lane carries, side
// by side, while its heart keeps the figures, and watches for other settings.
type keeper struct {
	*Workers
	id    int64
	name  atomic.Value // of the set
	lease *work.Lease
	stop  context.CancelCauseFunc
	wakes chan struct{}
	ended chan struct{}
}

func newKeeper(s *Workers, id int64, lease *work.Lease, stop context.CancelCauseFunc) *keeper {
	return &keeper{Workers: s, id: id, lease: lease, stop: stop, wakes: make(chan struct{}, 1), ended: make(chan struct{})}
}

// nudge makes the heart look at the settings at once.
func (k *keeper) nudge() { sets.Ring(k.wakes) }

// run works with the settings as they are, and anew when they change, until the
// set is gone or ctx ends.
func (k *keeper) run(ctx context.Context) {
	pause := time.Duration(0)
	for ctx.Err() == nil {
		select {
		case <-ctx.Done():
			return
		case <-time.After(pause):
		}
		set, err := k.DB.NumberedSet(ctx, k.id)
		if err == nil {
			err = k.queueNewLanes(ctx, set)
		}
		switch {
		case fault.KindOf(err) == fault.NotFound:
			return
		case err != nil:
			slog.Warn("a replica set cannot be read", "error", err)
			pause = min(pause+time.Second, 10*time.Second)
			continue
		}
		pause = 0
		k.name.Store(set.Name)
		k.work(ctx, set)
	}
}

// queueNewLanes gives lanes that are new their backlog. Nothing is carried before: a lane whose
// backlog is empty counts as having brought all.
func (k *keeper) queueNewLanes(ctx context.Context, set model.ReplicaSet) error {
	for _, l := range set.Lanes {
		if !l.Unqueued {
			continue
		}
		if err := k.DB.QueueAll(ctx, l); err != nil {
			return err
		}
	}
	return nil
}

// round is the work with one state of the structure of a set.
type round struct {
	*keeper
	engine *replication.Engine
	stop   context.CancelFunc
	places []*replicaWorker
	ways   []*laneWorker
	untidy chan struct{} // rung when attics are to be looked at
	// filling is true when something was carried since they were.
	filling atomic.Bool
	dirty   chan struct{} // rung when figures are no longer as they were kept

	mu       sync.Mutex
	set      model.ReplicaSet
	troubles map[[2]string]replication.Trouble // by replica and path
}

// work works on a set until its structure changes or ctx ends.
func (k *keeper) work(ctx context.Context, set model.ReplicaSet) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	r := k.newRound(set, stop)
	defer func() {
		for _, p := range r.places {
			_ = p.tree.Close()
		}
	}()
	var group guard.WaitGroup
	if !set.Paused {
		for _, p := range r.places {
			group.Go(func() { r.guard(func() { p.watch(ctx) }) })
			group.Go(func() { r.guard(func() { p.follow(ctx) }) })
			group.Go(func() { r.guard(func() { p.keepEdge(ctx) }) })
		}
		for _, w := range r.ways {
			group.Go(func() { r.guard(func() { w.carry(ctx) }) })
		}
		group.Go(func() { r.guard(func() { r.tidyAttics(ctx) }) })
		if set.Permissions == model.PermissionsMap {
			group.Go(func() { r.guard(func() { r.watchPairs(ctx) }) })
		}
	}
	r.heart(ctx)
	stop()
	group.Wait()
	r.keepFigures(context.WithoutCancel(ctx))
}

// guard begins the work anew after a fault of ours: one set must not end the
// service.
func (r *round) guard(do func()) {
	if err := guard.Do(do); err != nil {
		slog.Warn("the work on a replica set begins anew", "set", r.set.Name, "error", err)
		time.AfterFunc(beat, r.stop)
	}
}

// connections is how many connections lead to a replica: a server works off what
// comes over one of them in order.
const connections = 2

func (k *keeper) newRound(set model.ReplicaSet, stop context.CancelFunc) *round {
	r := &round{keeper: k, set: set, stop: stop, untidy: make(chan struct{}, 1), dirty: make(chan struct{}, 1), troubles: map[[2]string]replication.Trouble{}}
	r.engine = &replication.Engine{Set: set.Name, Now: sets.Now, Unique: rand.Text, Trouble: r.trouble, LeavePermissions: set.Permissions == model.PermissionsLeave, Pace: r.pace}
	store := k.DB.Replication()
	store.RetryFirst, store.RetryMost = time.Duration(set.Retry.FirstS)*time.Second, time.Duration(set.Retry.MostS)*time.Second
	r.engine.Store = &notifyingStore{Store: store, round: r}
	if rules, err := filter.New(set.Filter); err == nil && !reflect.DeepEqual(set.Filter, filter.Rules{}) {
		r.engine.LeaveOutByTime = set.Filter.MinDays > 0
		r.engine.LeaveOut = func(name string, e tree.Entry) bool {
			if e.Kind == tree.Folder {
				return rules.Folder(name) != ""
			}
			return rules.File(name, e.Size, e.Modified, time.Now()) != ""
		}
	}
	picked := sets.Now()
	for i := range set.Replicas {
		p := &replicaWorker{round: r, Replica: set.Replicas[i], look: make(chan struct{}, 1), notified: changedFolders{bell: make(chan struct{}, 1)}, edited: make(chan struct{}, 1)}
		if p.Settings != set.Version {
			p.Settings, p.PickedUp = set.Version, &picked
		}
		var ways []tree.Tree
		for range connections {
			ways = append(ways, redial.New(smb.Capabilities, func(ctx context.Context) (tree.Tree, error) { return k.OpenReplica(ctx, &p.Replica) }))
		}
		p.tree = k.lease.Tree(spread.Over(ways...))
		p.engine = &replication.Replica{ID: replica.ID(p.ID), Name: p.Name, Tree: p.tree, Seed: p.Seed, Scanned: p.Scanned, Filled: p.Filled, Intake: p.IntakeQuota,
			Removals: replica.RemovalGuard{Percent: set.RemovalLimit}, RemovalsWait: p.Removals != nil && p.Removals.Of > 0, Decision: p.Decision, Entries: p.Entries}
		if i > 0 && set.IsCloudSet() {
			p.engine.AsStub, p.engine.Received = p.asStub, p.received
		}
		p.hot.began = time.Now()
		p.troubled.Store(p.Troubles > 0)
		r.places = append(r.places, p)
		r.engine.Replicas = append(r.engine.Replicas, p.engine)
		p.toBegin(set.Paused)
	}
	r.engine.Repaired = r.repaired
	r.engine.RemovalsWait = r.removalsWait
	r.engine.FolderGone = func(id replica.ID) {
		for _, p := range r.places {
			if replica.ID(p.ID) == id {
				p.folderGone.Store(true)
			}
		}
	}
	r.engine.Busied = func(id replica.ID, folder string, changes int) {
		for _, p := range r.places {
			if replica.ID(p.ID) == id {
				p.hot.add(folder, changes)
			}
		}
	}
	for i := range set.Lanes {
		w := newLaneWorker(r, set.Lanes[i])
		if set.Paused {
			w.is(model.LanePaused, "", time.Time{})
		}
		r.ways = append(r.ways, w)
		r.engine.Lanes = append(r.engine.Lanes, w.id)
	}
	return r
}

// notifyingStore rings the lanes for which something was queued.
type notifyingStore struct {
	replication.Store
	round *round
}

func (b *notifyingStore) Save(ctx context.Context, c replica.Change) error {
	err := b.Store.Save(ctx, c)
	for _, w := range b.round.ways {
		if slices.Contains(c.Queue, w.id) {
			w.queued()
		}
	}
	return err
}

// Beats of the heart.
const (
	beat        = time.Second
	restingBeat = 15 * time.Second // while nothing is on its way
	wantedEvery = time.Minute      // what people want is told; this is for news that got lost
	sampleEvery = time.Minute
)

// heart keeps the figures until ctx ends, as with the lease, or the structure of the set
// is another.
func (r *round) heart(ctx context.Context) {
	sampled, settingsRead := time.Time{}, time.Now()
	for {
		r.keepFigures(ctx)
		kept := time.Now()
		if minute := sets.Now().Truncate(sampleEvery); !minute.Equal(sampled) {
			if err := r.DB.StoreSamples(ctx, minute, r.lanes()); err == nil {
				sampled = minute
			}
		}
		wanted, ok := r.rest(ctx, kept)
		if !ok {
			return
		}
		if !wanted && time.Since(settingsRead) < wantedEvery {
			continue
		}
		settingsRead = time.Now()
		if r.changed(ctx) {
			return
		}
	}
}

// rest waits until figures are to be kept again: each beat while something is on its way or
// has changed, seldom otherwise. wanted is true when people may want something; ok is false
// when ctx has ended.
func (r *round) rest(ctx context.Context, kept time.Time) (wanted, ok bool) {
	pause := restingBeat
	if r.atWork() {
		pause = beat
	}
	timer := time.NewTimer(pause)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
			return false, false
		case <-r.wakes:
			return true, true
		case <-timer.C:
			return false, true
		case <-r.dirty:
			timer.Reset(max(beat-time.Since(kept), beat/4)) // several changes are kept together
		}
	}
}

// atWork reports whether anything is on its way: its figures change by themselves.
func (r *round) atWork() bool {
	for _, w := range r.ways {
		if l := w.snapshot(); l.State == model.LaneCarrying || l.Rate > 0 || l.Backlog.Files > 0 {
			return true
		}
	}
	return false
}

// changed looks at what people want, and takes over settings; true when the
// work has to begin anew.
func (r *round) changed(ctx context.Context) bool {
	wanted, err := r.DB.Wanted(ctx, r.id)
	if err != nil {
		return false
	}
	for _, p := range r.places {
		if slices.Contains(wanted.Looks, replica.ID(p.ID)) {
			at := sets.Now()
			p.scanRequested.Store(&at)
			sets.Ring(p.look)
			sets.Ring(p.edited)
		}
		if !p.notified.add(wanted.Folders[replica.ID(p.ID)]) {
			sets.Ring(p.look)
		}
	}
	if wanted.Version == r.set.Version {
		return false
	}
	if wanted.Version == 0 { // it is gone
		return true
	}
	set, err := r.DB.ReplicaSet(ctx, r.set.Name)
	if err != nil {
		return sets.NamespaceGone(err)
	}
	if structure(set) != structure(r.set) {
		return true
	}
	r.takeOver(set)
	return false
}

// structure is what the work has to begin anew for.
func structure(set model.ReplicaSet) string {
	s := struct {
		Paused      bool
		Filter      filter.Rules
		Permissions string
		Places      []namespace.Target
		IDs         []int64
		Retry       model.Retry
		Intakes     []int64
		Lanes       []replica.Lane
		Stubs       []bool
		Removals    int
	}{set.Paused, set.Filter, set.Permissions, nil, nil, set.Retry, nil, nil, nil, set.RemovalLimit}
	for i := range set.Replicas {
		s.Stubs = append(s.Stubs, set.Replicas[i].Edge.HasStubs())
		s.IDs = append(s.IDs, set.Replicas[i].ID)
		s.Intakes = append(s.Intakes, set.Replicas[i].IntakeQuota)
		s.Places = append(s.Places, set.Replicas[i].Target())
	}
	for _, l := range set.Lanes {
		s.Lanes = append(s.Lanes, replica.Lane{From: replica.ID(l.FromID), To: replica.ID(l.ToID)})
	}
	return sets.JsonText(s)
}

// takeOver takes over calendars and what else does not interrupt the work.
func (r *round) takeOver(set model.ReplicaSet) {
	r.mu.Lock()
	r.set = set
	r.mu.Unlock()
	picked := sets.Now()
	for i, p := range r.places {
		again := p.snapshot().SweepMin != set.Replicas[i].SweepMin
		p.update(func(m *model.Replica) {
			m.Settings, m.PickedUp = set.Version, &picked
			m.IntakeQuota, m.AtticQuota, m.Seed = set.Replicas[i].IntakeQuota, set.Replicas[i].AtticQuota, set.Replicas[i].Seed
			m.SweepMin, m.Edge, m.Decision = set.Replicas[i].SweepMin, set.Replicas[i].Edge, set.Replicas[i].Decision
		})
		if d := set.Replicas[i].Decision; d != replica.Undecided {
			r.engine.Decide(replica.ID(p.ID), d)
			again = true
		}
		sets.Ring(p.edited)
		if again { // it is decided at the next scan; or the pause until the next scan begins anew
			sets.Ring(p.look)
		}
	}
	for i, w := range r.ways {
		w.takeOver(set.Lanes[i], set.Calendar)
	}
	sets.Ring(r.untidy)
}

// trouble notes what could not be done, to be kept with the next beat.
func (r *round) trouble(t replication.Trouble) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.troubles) < 10_000 {
		r.troubles[[2]string{t.Replica, t.Path}] = t
	}
}

// removalsWait notes what waits for a decision at a replica. A part of it that was found by the way makes all of it be looked at.
func (r *round) removalsWait(id replica.ID, w replica.Removals) {
	for _, p := range r.places {
		if replica.ID(p.ID) != id {
			continue
		}
		p.update(func(m *model.Replica) {
			since := sets.Now()
			if m.Removals != nil {
				since = m.Removals.Since
			}
			if m.Removals, m.Decision = nil, replica.Undecided; w.Items > 0 {
				m.Removals = &model.WaitingRemovals{Since: since, Items: w.Items, Files: w.Files, Bytes: w.Bytes, Of: w.Of, Examples: w.Examples}
			}
		})
		sets.Ring(r.dirty)
		if w.Items > 0 && w.Of == 0 {
			sets.Ring(p.look)
		}
	}
}

// repaired counts and logs a record that was put right.
func (r *round) repaired(p replication.Repair) {
	slog.Warn("a record of a replica was put right by looking again", "set", r.set.Name, "replica", p.Replica, "path", p.Path, "found", p.Found)
	for _, one := range r.places {
		if one.Name == p.Replica {
			one.update(func(m *model.Replica) { m.Repairs++ })
		}
	}
}

// lanes are the lanes as they are.
func (r *round) lanes() (list []model.Lane) {
	for _, w := range r.ways {
		list = append(list, w.snapshot())
	}
	return list
}
