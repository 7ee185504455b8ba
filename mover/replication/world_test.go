package replication

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"regexp"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"bridgespan/core/replica"
	"bridgespan/mover/edge"
	"bridgespan/mover/transfer"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

// errCrash ends the engine at a step: whatever it was doing is broken off.
var errCrash = errors.New("crash")

// world is a set of replicas with people at work, in which everything that can
// go wrong does, the same way for the same seed.
type world struct {
	turns
	clock    time.Time
	skews    []*time.Duration // of the clocks of the replicas
	database *memoryDatabase
	store    *memoryStore // of the engine that works now
	replicas []*Replica
	trees    []*memory.Tree
	layout   func(ids []replica.ID) []replica.Lane
	lanes    []replica.Lane
	last     replica.ID // that was given to a replica
	engine   *Engine
	names    atomic.Int64

	fuel    int  // steps until the crash; below 0: none
	crashed bool // nothing answers until the engine is started anew
	hands   int  // of the engine
	// deltaFrom is from how many bytes on the engine carries what lacks alone.
	deltaFrom  int64
	mostAbsent int
	// piece is in pieces of how many bytes files come; 0 for whole ones.
	piece int64
	flaky bool // single steps fail
	// away are replicas that do not answer for a while, and full those whose disks
	// are: until the world is at rest.
	away, full map[int]bool
	busy       bool                  // people work between any two steps of the engine
	slow       map[replica.Lane]bool // lanes that wait before they carry anything
	stopped    map[replica.Lane]bool // lanes that are closed for some turns
	interrupt  int                   // steps until the work is interrupted, as when settings are edited; below 0: none
	cancel     context.CancelFunc    // interrupts the work
	// objects is true where all replicas but the first are object stores.
	objects bool
	// stubs is true where the first replica is a bucket, and the others are its edges.
	stubs bool
	// limited is true where removals of much wait for a decision.
	limited bool
	// restored is true when some of them were restored: then files count as changed where nobody touched them.
	restored bool
	// deep is true where people have folders in folders, and move them into each other.
	deep      bool
	scanShare int                     // how much longer pauses between scans are than the scans
	warm      map[replica.ID][]string // folders in which scans found changes
	people    bool                    // the trees are used by people now, not by the engine
	clashed   bool                    // two names differed only in case: what the one hid shows when the other goes

	// touchedLast is what the engine last did something about, by replica.
	touchedLast map[int]string
	// worked are the keys of all paths that people ever touched, by replica.
	worked map[int]map[string]bool

	content int             // counts what people write
	filler  string          // what else is in each content, around what is its own
	dropped map[string]bool // the contents that people wrote: whether people overwrote or removed them
	logging sync.Mutex
	history []string
}

func (w *world) log(format string, args ...any) {
	w.logging.Lock() // a task tells how it ended after its turn
	defer w.logging.Unlock()
	w.history = append(w.history, fmt.Sprintf(format, args...))
}

func newWorld(seed uint64) *world {
	w := &world{turns: turns{random: rand.New(rand.NewPCG(seed, 7))}, clock: time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC), database: newMemoryDatabase(), fuel: -1, interrupt: -1, dropped: map[string]bool{}, touchedLast: map[int]string{}, worked: map[int]map[string]bool{}, away: map[int]bool{}, full: map[int]bool{},
		slow: map[replica.Lane]bool{}, stopped: map[replica.Lane]bool{}, warm: map[replica.ID][]string{}}
	w.deep = w.random.IntN(3) > 0
	w.scanShare = 1 + w.random.IntN(20)
	w.database.packLeast = 2 + w.random.IntN(3)
	w.hands = 1 + w.random.IntN(3)
	w.deltaFrom = 1 + w.random.Int64N(2)*1000
	w.mostAbsent = w.random.IntN(2) * (1 + w.random.IntN(5))
	w.piece = w.random.Int64N(2) * (1 + w.random.Int64N(600))
	w.objects, w.stubs, w.limited = seed%4 == 3, seed%4 == 1, seed%3 == 2
	if w.random.IntN(2) == 0 {
		w.filler = fmt.Sprintf("%x", randomText(seed, 1000))
	}
	w.layout = []func(ids []replica.ID) []replica.Lane{replica.Mesh, func(ids []replica.ID) []replica.Lane { return replica.Hub(ids[0], ids) }, replica.Chain}[w.random.IntN(3)]
	if w.stubs {
		w.layout = func(ids []replica.ID) []replica.Lane { return replica.Hub(ids[0], ids) }
	}
	for i := range 2 + w.random.IntN(3) {
		w.place(i == 0)
	}
	w.lay()
	w.start()
	return w
}

// place adds a replica at a place of its own.
func (w *world) place(seed bool) {
	i := len(w.trees)
	skew := time.Duration(w.random.IntN(240)-120) * time.Second
	w.skews = append(w.skews, &skew)
	t := &memory.Tree{CaseSensitive: w.random.IntN(3) == 0 && !w.deep, Far: w.random.IntN(2) == 0, Now: func() time.Time { return w.clock.Add(skew) }}
	t.Objects = w.objects && i > 0 || w.stubs && i == 0
	t.Fault = func(step, name string) error {
		if w.people {
			return nil
		}
		w.wait(fmt.Sprint(i, step, places.ReplaceAllString(name, "")))
		if w.busy && w.random.IntN(15) == 0 {
			w.meddle(i)
		}
		if !own(name) && name != "." {
			w.touchedLast[i] = name
		}
		switch {
		case w.away[i]:
			return tree.ErrUnreachable
		case w.full[i] && (step == "write" || step == "commit" || step == "mkdir"):
			return tree.ErrNoSpace
		}
		return w.step()
	}
	w.trees = append(w.trees, t)
	w.worked[i] = map[string]bool{}
	w.last++
	r := &Replica{ID: w.last, Name: fmt.Sprint("r", i+1), Tree: t, Seed: seed, Intake: int64(w.random.IntN(3) * 10)}
	r.Removals = w.removalGuard()
	if w.stubs && i > 0 {
		t.Source = w.inBucket
		r.AsStub = asStub
	}
	w.replicas = append(w.replicas, r)
}

func (w *world) removalGuard() replica.RemovalGuard {
	if w.limited {
		return replica.RemovalGuard{Percent: 30, Least: 1}
	}
	return replica.RemovalGuard{}
}

// decide lets people decide what is to become of removals that wait.
func (w *world) decide(r *Replica) {
	if r.RemovalsWait && r.Decision == replica.Undecided {
		d := []replica.Decision{replica.Apply, replica.Restore}[w.random.IntN(2)]
		w.log("%s removals at %s", d, r.Name)
		w.engine.Decide(r.ID, d)
		w.restored = w.restored || d == replica.Restore
	}
}

// asStub lets about half of what comes to an edge become stubs.
func asStub(name string, size int64, _ time.Time) bool { return (len(name)+int(size))%2 == 0 }

// inBucket is the content of a stub, from the first replica.
func (w *world) inBucket(ctx context.Context, name string, size int64, mark tree.Mark) ([]byte, error) {
	c, err := edge.Content(ctx, w.trees[0], name, mark, size, true)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	content := make([]byte, size)
	_, err = c.ReadAt(content, 0)
	return content, err
}

// lay lays the lanes between the replicas as they are now: those that are there
// stay, and queued on new ones is all that their senders hold, and what their
// receivers held before.
func (w *world) lay() {
	var ids []replica.ID
	for _, r := range w.replicas {
		ids = append(ids, r.ID)
	}
	former := w.lanes
	w.lanes = w.layout(ids)
	for _, l := range former {
		if !slices.Contains(w.lanes, l) {
			delete(w.database.backlog, l)
		}
	}
	for _, l := range w.lanes {
		if slices.Contains(former, l) {
			continue
		}
		w.database.queueRecords(l, slices.Sorted(maps.Keys(w.database.all(l.From))))
		held := w.database.all(l.To)
		maps.DeleteFunc(held, func(_ string, rec replica.Record) bool { return !rec.Prior() })
		w.database.queueRecords(l, slices.Sorted(maps.Keys(held)))
	}
}

// changeMembers lets a place join the set, where people have worked already, or a
// replica begin anew where it is, as when its server was replaced.
func (w *world) changeMembers() {
	i := w.random.IntN(len(w.replicas) + 1)
	if i == len(w.replicas) && len(w.replicas) < 5 {
		w.place(false)
		w.log("%s joins", w.replicas[i].Name)
		w.lay()
		w.start()
		return
	}
	i %= len(w.replicas)
	r := w.replicas[i]
	if w.stubs && i == 0 { // then stubs are all that is left of some contents
		return
	}
	other := slices.IndexFunc(w.replicas, func(o *Replica) bool { return o != r && o.Filled })
	if other < 0 {
		return
	}
	w.log("%s begins anew", r.Name)
	w.database.forget(r.ID)
	w.last++
	fresh := &Replica{ID: w.last, Name: r.Name, Tree: r.Tree, Intake: r.Intake, AsStub: r.AsStub, Removals: w.removalGuard()}
	if r.Seed {
		w.replicas[other].Seed = true
		for key, rec := range w.database.all(w.replicas[other].ID) {
			if rec.Prior() { // it belongs to the set from now on
				w.worked[other][key] = true
			}
		}
	}
	w.replicas[i] = fresh
	w.lay()
	w.start()
}

// start starts the engine, after a crash too: it knows only what was kept. What a store
// was keeping when its engine was interrupted is kept later; when it crashed, never.
func (w *world) start() {
	if w.store != nil {
		w.store.gone = w.crashed
	}
	w.crashed, w.fuel, w.interrupt = false, -1, -1
	w.store = openMemoryStore(w.database)
	w.store.fault = func() error { w.wait("save"); return w.step() }
	w.store.turn = w.wait
	w.store.now = func() time.Time { return w.clock }
	w.engine = &Engine{Store: w.store, Replicas: w.replicas, Lanes: w.lanes, Now: func() time.Time { return w.clock },
		Unique: func() string { return fmt.Sprint("u", w.names.Add(1)) }, Hands: w.hands, Transfers: transfer.Settings{DeltaFrom: w.deltaFrom, Average: 256, Piece: w.piece}, mostAbsent: w.mostAbsent,
		Busied: func(id replica.ID, folder string, _ int) { w.warm[id] = append(w.warm[id], folder) },
		Pace: func(ctx context.Context, l replica.Lane, _ int) error {
			if w.slow[l] {
				w.pause(fmt.Sprint("pace ", l), 40)
			}
			return ctx.Err()
		}}
}

// places are what differs between two runs of one seed in the names that the
// engine makes.
var places = regexp.MustCompile(`\bu[0-9]+`)

// step is asked at every step of the engine, before it is done.
func (w *world) step() error {
	switch {
	case w.crashed:
		return errCrash
	case w.fuel == 0:
		w.crashed = true
		return errCrash
	case w.fuel > 0:
		w.fuel--
	}
	if w.interrupt > 0 {
		if w.interrupt--; w.interrupt == 0 {
			w.log("interrupted")
			w.cancel()
		}
	}
	if w.flaky && w.random.IntN(12) == 0 {
		return tree.ErrUnreachable
	}
	return nil
}

// tick lets time pass. Now and then somebody sets the clock of the service, or of all but one server, by up to two hours in either
// direction.
func (w *world) tick() {
	w.clock = w.clock.Add(time.Duration(3+w.random.IntN(60)) * time.Second)
	if w.random.IntN(50) > 0 {
		return
	}
	step := time.Duration(w.random.IntN(4*3600)-2*3600) * time.Second
	w.clock = w.clock.Add(step)
	if i := w.random.IntN(2 * len(w.skews)); i < len(w.skews) {
		*w.skews[i] -= step
	}
}
