package replication

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/replica"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

var (
	seeds    = flag.Int("seeds", 800, "how many histories TestTorture makes")
	fromSeed = flag.Uint64("from-seed", 1, "the first of them")
)

// errCrash ends the engine at a step: whatever it was doing is broken off.
var errCrash = errors.New("crash")

// world is a set of replicas with people at work, in which everything that can
// go wrong does, the same way for the same seed.
type world struct {
	turns
	clock    time.Time
	store    *memoryStore
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
	deltaFrom int64
	// piece is in pieces of how many bytes files come; 0 for whole ones.
	piece int64
	flaky bool // single steps fail
	// away are replicas that do not answer for a while, and full those whose disks
	// are: until the world is at rest.
	away, full map[int]bool
	busy       bool // people work between any two steps of the engine
	people     bool // the trees are used by people now, not by the engine
	clashed    bool // two names differed only in case: what the one hid shows when the other goes

	// touchedLast is what the engine last did something about, by replica.
	touchedLast map[int]string
	// worked are the keys of all paths that people ever touched, by replica.
	worked map[int]map[string]bool

	content int             // counts what people write
	filler  string          // what else is in each content, around what is its own
	dropped map[string]bool // the contents that people wrote: whether people overwrote or removed them
	history []string
}

func (w *world) log(format string, args ...any) {
	w.history = append(w.history, fmt.Sprintf(format, args...))
}

func newWorld(seed uint64) *world {
	w := &world{turns: turns{random: rand.New(rand.NewPCG(seed, 7))}, clock: time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC), store: newMemoryStore(), fuel: -1, dropped: map[string]bool{}, touchedLast: map[int]string{}, worked: map[int]map[string]bool{}, away: map[int]bool{}, full: map[int]bool{}}
	w.store.fault = func() error { w.wait("save"); return w.step() }
	w.store.turn = w.wait
	w.hands = 1 + w.random.IntN(3)
	w.deltaFrom = 1 + w.random.Int64N(2)*1000
	w.piece = w.random.Int64N(2) * (1 + w.random.Int64N(600))
	if w.random.IntN(2) == 0 {
		w.filler = fmt.Sprintf("%x", randomText(seed, 1000))
	}
	w.layout = []func(ids []replica.ID) []replica.Lane{replica.Mesh, func(ids []replica.ID) []replica.Lane { return replica.Hub(ids[0], ids) }, replica.Chain}[w.random.IntN(3)]
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
	t := &memory.Tree{CaseSensitive: w.random.IntN(3) == 0, Far: w.random.IntN(2) == 0, Now: func() time.Time { return w.clock.Add(skew) }}
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
	w.replicas = append(w.replicas, &Replica{ID: w.last, Name: fmt.Sprint("r", i+1), Tree: t, Seed: seed, Intake: int64(w.random.IntN(3) * 10)})
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
			delete(w.store.backlog, l)
		}
	}
	for _, l := range w.lanes {
		if slices.Contains(former, l) {
			continue
		}
		for _, key := range slices.Sorted(maps.Keys(w.store.records[l.From])) {
			w.store.queue(l, key, 0)
		}
		for _, key := range slices.Sorted(maps.Keys(w.store.records[l.To])) {
			if rec := w.store.records[l.To][key]; rec.Prior() {
				w.store.queue(l, key, 0)
			}
		}
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
	other := slices.IndexFunc(w.replicas, func(o *Replica) bool { return o != r && o.Filled })
	if other < 0 {
		return
	}
	w.log("%s begins anew", r.Name)
	delete(w.store.records, r.ID)
	w.last++
	fresh := &Replica{ID: w.last, Name: r.Name, Tree: r.Tree, Intake: r.Intake}
	if r.Seed {
		w.replicas[other].Seed = true
	}
	w.replicas[i] = fresh
	w.lay()
	w.start()
}

// start starts the engine, after a crash too: it knows only what was kept.
func (w *world) start() {
	w.crashed, w.fuel = false, -1
	w.engine = &Engine{Store: w.store, Replicas: w.replicas, Lanes: w.lanes, Now: func() time.Time { return w.clock },
		Unique: func() string { return fmt.Sprint("u", w.names.Add(1)) }, Hands: w.hands, DeltaFrom: w.deltaFrom, average: 256, piece: w.piece}
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
	if w.flaky && w.random.IntN(12) == 0 {
		return tree.ErrUnreachable
	}
	return nil
}

func (w *world) tick() { w.clock = w.clock.Add(time.Duration(3+w.random.IntN(60)) * time.Second) }

var (
	folders = []string{".", "a", "b", "a/deep", "B/Sub"}
	files   = []string{"one", "two", "Three", "x"}
)

// usual are the permissions of what nobody gave others.
var usual = func() acl.Descriptor {
	d, err := acl.Parse("O:BAG:BAD:(A;;FA;;;BA)(A;;FR;;;S-1-5-21-1-2-3-999)")
	if err != nil {
		panic(err)
	}
	return d
}()

// work is one thing that people do at a replica. What does not go is not done.
func (w *world) work() {
	w.tick()
	w.people = true
	defer func() { w.people = false }()
	i := w.random.IntN(len(w.trees))
	t, ctx := w.trees[i], context.Background()
	defer w.watch(i)()
	folder := folders[w.random.IntN(len(folders))]
	name := path.Join(folder, files[w.random.IntN(len(files))])
	if !fits(t, name) || !fits(t, path.Dir(name)) {
		return
	}
	var err error
	var did string
	switch w.random.IntN(11) {
	case 0, 1, 2, 3:
		_ = tree.MkdirAll(ctx, t, folder)
		w.write(i, name)
	case 4:
		w.drops(t, name)
		err = t.Remove(ctx, name)
		did = "removes " + name
	case 5:
		if folder != "." {
			for e := range tree.Walk(ctx, t, folder, tree.Plain) {
				w.drops(t, e.Path)
			}
			err = tree.RemoveAll(ctx, t, folder)
			did = "removes " + folder + " with all"
		}
	case 6:
		to := path.Join(folders[w.random.IntN(len(folders))], files[w.random.IntN(len(files))])
		if !fits(t, to) {
			return
		}
		if keyOf(to) != keyOf(name) {
			w.drops(t, to)
		}
		err = t.Rename(ctx, name, to, true)
		did = fmt.Sprintf("renames %s to %s", name, to)
	case 7:
		to := folders[w.random.IntN(len(folders))]
		if fits(t, to) && folder != "." && to != "." && !strings.HasPrefix(strings.ToLower(to)+"/", strings.ToLower(folder)+"/") {
			err = t.Rename(ctx, folder, to, false)
			did = fmt.Sprintf("renames %s to %s", folder, to)
		}
	case 8:
		if w.busy { // that is seen only between two steps of the engine
			return
		}
		d, bad := acl.Parse(fmt.Sprintf("O:BAG:BAD:(A;;FA;;;BA)(A;;FR;;;S-1-5-21-1-2-3-%d)", 1000+w.random.IntN(4)))
		if bad != nil {
			panic(bad)
		}
		err = t.Apply(ctx, name, tree.Meta{Descriptor: d})
		did = "permits " + name
	case 9:
		err = t.Mkdir(ctx, folder)
		did = "makes " + folder
	case 10:
		to := path.Join(folders[w.random.IntN(len(folders))], files[w.random.IntN(len(files))])
		if !fits(t, to) || !fits(t, path.Dir(to)) || keyOf(to) == keyOf(name) {
			return
		}
		var text []byte
		if text, err = tree.ReadFile(ctx, t, name); err != nil {
			return
		}
		var was tree.Entry
		if was, err = t.Stat(ctx, name); err == nil {
			w.drops(t, to)
			_, err = t.Put(ctx, to, strings.NewReader(string(text)), tree.PutOptions{Replace: true, Meta: tree.Meta{Modified: was.Modified}})
		}
		if w.dropped[string(text)] && err == nil { // it is there again
			w.dropped[string(text)] = false
		}
		did = fmt.Sprintf("copies %s to %s", name, to)
	}
	for e := range tree.Walk(ctx, t, ".", tree.WithDescriptors) { // as a file server does
		if !own(e.Path) && e.Descriptor.IsZero() {
			if err := t.Apply(ctx, e.Path, tree.Meta{Descriptor: usual, Modified: e.Modified}); err != nil {
				panic(err)
			}
		}
	}
	if did != "" && err == nil {
		w.log("%v %s %s", w.clock.Format(time.TimeOnly), w.replicas[i].Name, did)
	}
}

// fits reports whether nobody would be confused by a name: that it is not
// there already in other case.
func fits(t *memory.Tree, name string) bool {
	for ; name != "."; name = path.Dir(name) {
		for e, err := range t.List(context.Background(), path.Dir(name), tree.Plain) {
			if err == nil && e.Name != path.Base(name) && keyOf(e.Name) == keyOf(path.Base(name)) {
				return false
			}
		}
	}
	return true
}

// watch looks at a replica, and returns what notes all that people changed there
// since.
func (w *world) watch(i int) (note func()) {
	look := func() map[string]string {
		shown := map[string]string{}
		for e := range tree.Walk(context.Background(), w.trees[i], ".", tree.WithDescriptors) {
			shown[keyOf(e.Path)] = fmt.Sprint(e.ID, e.Name, e.Modified, e.Descriptor)
		}
		return shown
	}
	before := look()
	return func() {
		after := look()
		maps.DeleteFunc(after, func(key, now string) bool {
			was, ok := before[key]
			delete(before, key)
			return ok && was == now
		})
		for _, changed := range []map[string]string{before, after} {
			for key := range changed {
				w.worked[i][key] = true
			}
		}
	}
}

// meddle lets people write just where the engine is at work.
func (w *world) meddle(i int) {
	name, ok := w.touchedLast[i]
	if !ok || w.random.IntN(2) == 0 {
		w.work()
		return
	}
	w.tick()
	w.people = true
	defer func() { w.people = false }()
	if e, err := w.trees[i].Stat(context.Background(), name); err != nil || e.Kind != tree.File {
		return
	}
	w.write(i, name)
}

// write lets people write a file.
func (w *world) write(i int, name string) {
	t, ctx := w.trees[i], context.Background()
	w.content++
	own := fmt.Sprintf("content %d", w.content)
	at := w.random.IntN(len(w.filler) + 1)
	text := w.filler[:at] + own + w.filler[at:]
	w.drops(t, name)
	if _, err := t.Put(ctx, name, strings.NewReader(text), tree.PutOptions{Replace: true}); err != nil {
		return
	}
	w.dropped[text] = false
	w.worked[i][keyOf(name)] = true
	// What is written just while the engine renames it is there under the new name.
	for _, records := range w.store.records {
		for key, rec := range records {
			w.worked[i][key] = w.worked[i][key] || w.busy && rec.Moved == keyOf(name)
		}
	}
	w.log("%v %s writes %s: %s", w.clock.Format(time.TimeOnly), w.replicas[i].Name, name, own)
}

// drops notes that people do away with what is at a name.
func (w *world) drops(t *memory.Tree, name string) {
	if e, err := t.Stat(context.Background(), name); err != nil || e.Kind == tree.Folder {
		return
	}
	text, err := tree.ReadFile(context.Background(), t, name)
	if err != nil {
		panic(err)
	}
	w.dropped[string(text)] = true
}

// turn lets the engine do something. Crashes and faults are part of it.
func (w *world) turn() {
	w.tick()
	ctx := context.Background()
	if w.random.IntN(8) == 0 {
		w.fuel = w.random.IntN(60)
	}
	w.flaky, w.busy = w.random.IntN(6) == 0, w.random.IntN(3) == 0
	for i := range w.replicas { // for some turns
		w.away[i] = w.random.IntN(12) == 0 || w.away[i] && w.random.IntN(3) > 0
		w.full[i] = w.random.IntN(12) == 0 || w.full[i] && w.random.IntN(3) > 0
	}
	var tasks []func()
	for _, i := range w.random.Perm(len(w.replicas) + len(w.lanes))[:1+w.random.IntN(3)] {
		tasks = append(tasks, w.task(ctx, i))
	}
	w.together(tasks...)
	w.flaky, w.busy = false, false
	if w.crashed {
		w.log("crashed")
		w.start()
	}
	w.fuel = -1
}

// task is something that the engine can do: scan a replica, or carry a lane.
func (w *world) task(ctx context.Context, i int) func() {
	if i < len(w.replicas) {
		return func() {
			w.log("scan %s", w.replicas[i].Name)
			done, err := w.engine.Scan(ctx, w.replicas[i].ID)
			w.log("scanned %s: %+v, %v", w.replicas[i].Name, done, err)
		}
	}
	l, limit := w.lanes[i-len(w.replicas)], 1+w.random.IntN(6)
	return func() {
		w.log("carry %d to %d", l.From, l.To)
		done, err := w.engine.Carry(ctx, l, limit)
		w.log("carried %d to %d: %+v, %v", l.From, l.To, done, err)
	}
}

// rest lets the engine work undisturbed until nothing is left to do.
func (w *world) rest() error {
	ctx := context.Background()
	clear(w.away)
	clear(w.full)
	var troubles []string
	w.engine.Trouble = func(t Trouble) { troubles = append(troubles, fmt.Sprintf("%s %s: %v", t.Replica, t.Path, t.Err)) }
	for round := range 60 {
		troubles = nil
		w.clashed = w.clashed || w.clashes()
		busy, err := w.round(ctx)
		if err != nil {
			return err
		}
		if !busy && round > 0 {
			return nil
		}
	}
	if w.clashes() {
		return nil
	}
	return fmt.Errorf("there is no end to it: %v; backlogs %v", troubles[:min(5, len(troubles))], w.store.backlog)
}

// round scans and carries all that there is.
func (w *world) round(ctx context.Context) (busy bool, err error) {
	w.together(func() {
		for _, r := range w.replicas {
			w.tick()
			s, bad := w.engine.Scan(ctx, r.ID)
			busy, err = busy || s.Changed+s.Busy > 0, errors.Join(err, bad)
		}
		for _, l := range w.lanes {
			for range 20 {
				done, bad := w.engine.Carry(ctx, l, 100)
				busy, err = busy || done.Done > 0, errors.Join(err, bad)
				if len(w.store.backlog[l]) == 0 {
					break
				}
			}
			busy = busy || len(w.store.backlog[l]) > 0
		}
	})
	return busy, err
}

// show is all that a replica shows, and the contents in its attic.
func (w *world) show(i int) (shown map[string]string, attic []string) {
	w.people = true
	defer func() { w.people = false }()
	shown = map[string]string{}
	for e, err := range tree.Walk(context.Background(), w.trees[i], ".", tree.WithDescriptors) {
		if err != nil {
			panic(err)
		}
		if e.Kind == tree.Folder {
			if !own(e.Path) {
				shown[e.Path] = "folder " + e.Descriptor.String()
			}
			continue
		}
		text, err := tree.ReadFile(context.Background(), w.trees[i], e.Path)
		if err != nil {
			panic(err)
		}
		if own(e.Path) {
			attic = append(attic, string(text))
			if e.Path != MarkFile && !strings.HasPrefix(e.Path, atticFolder+"/") && !strings.HasPrefix(e.Path, intakeFolder+"/") {
				panic("out of place: " + e.Path)
			}
			continue
		}
		shown[e.Path] = fmt.Sprintf("%s|%v %v", text, e.Modified.Format(time.TimeOnly), e.Descriptor)
	}
	return shown, attic
}

// leftovers tells of what waits in an intake although nothing is pending.
func (w *world) leftovers() error {
	w.people = true
	defer func() { w.people = false }()
	for i, t := range w.trees {
		for e, err := range tree.Walk(context.Background(), t, intakeFolder, tree.Plain) {
			if err == nil && e.Kind == tree.File {
				return fmt.Errorf("%s is left at %s", e.Path, w.replicas[i].Name)
			}
		}
	}
	return nil
}

// clashes reports whether a replica that tells cases apart holds names that
// others cannot: those are not carried.
func (w *world) clashes() bool {
	for i := range w.trees {
		shown, _ := w.show(i)
		keys := map[string]bool{}
		for name := range shown {
			if keys[keyOf(name)] {
				return true
			}
			keys[keyOf(name)] = true
		}
	}
	return false
}

// check holds the world against the promises.
func (w *world) check() error {
	if err := w.nothingLost(); err != nil || w.clashes() {
		return err
	}
	if err := w.leftovers(); err != nil {
		return err
	}
	if err := w.nothingImagined(); err != nil && !w.clashed {
		return err
	}
	first, _ := w.show(0)
	for i := range w.trees[1:] {
		other, _ := w.show(i + 1)
		if !maps.Equal(first, other) {
			return fmt.Errorf("r1 and %s differ:\n%s", w.replicas[i+1].Name, difference(first, other))
		}
	}
	return nil
}

// nothingLost tells of content that nobody did away with and that is nowhere,
// and of content that nobody wrote.
func (w *world) nothingLost() error {
	there := map[string]bool{}
	for i := range w.trees {
		shown, attic := w.show(i)
		for name, what := range shown {
			text, _, isFile := strings.Cut(what, "|")
			if _, written := w.dropped[text]; isFile && !written {
				return fmt.Errorf("%s shows %s with %q, which nobody wrote", w.replicas[i].Name, name, text)
			}
			there[text] = true
		}
		for _, text := range attic {
			there[text] = true
		}
	}
	for text, dropped := range w.dropped {
		if !dropped && !there[text] {
			return fmt.Errorf("%s is lost", text)
		}
	}
	return nil
}

// nothingImagined tells of a change that the engine believes was made by people
// at a replica where nobody touched the path. Folders it revives itself.
func (w *world) nothingImagined() error {
	for i, r := range w.replicas {
		for _, other := range w.replicas {
			for key, rec := range w.store.records[other.ID] {
				if rec.Kind != replica.File || w.worked[i][key] {
					continue
				}
				for _, t := range slices.Concat(rec.Version, rec.Permissions.Version) {
					if t.Replica == r.ID {
						return fmt.Errorf("%s counts as changed by people at %s: %v, %v", key, r.Name, rec.Version, rec.Permissions.Version)
					}
				}
			}
		}
	}
	return nil
}

func difference(a, b map[string]string) string {
	var lines []string
	for _, name := range slices.Sorted(maps.Keys(a)) {
		if a[name] != b[name] {
			lines = append(lines, fmt.Sprintf("  %s: %q, %q", name, a[name], b[name]))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(b)) {
		if _, ok := a[name]; !ok {
			lines = append(lines, fmt.Sprintf("  %s: nothing, %q", name, b[name]))
		}
	}
	return strings.Join(lines, "\n")
}

// live is one history: people and the engine by turns, then rest.
func live(t *testing.T, seed uint64, steps int) (w *world, err error) {
	synctest.Test(t, func(*testing.T) {
		w = newWorld(seed)
		err = w.live(steps)
	})
	return w, err
}

func (w *world) live(steps int) error {
	for range w.random.IntN(12) { // what was there before the set
		w.work()
	}
	if w.random.IntN(3) > 0 { // a set that was at work for long
		if err := w.rest(); err != nil {
			return err
		}
		w.log("all are the same")
	}
	for range steps {
		switch {
		case w.random.IntN(20) == 0:
			w.changeMembers()
		case w.random.IntN(2) > 0:
			w.work()
		default:
			w.turn()
		}
	}
	w.log("rest")
	w.start() // what was left is swept once, by an engine that begins
	if err := w.rest(); err != nil {
		return err
	}
	return w.check()
}

// TestTorture makes histories, and holds the end of each against the promises.
func TestTorture(t *testing.T) {
	for seed := *fromSeed; seed < *fromSeed+uint64(*seeds); seed++ {
		if _, err := live(t, seed, 40); err != nil {
			// The shortest history of this seed that fails.
			for steps := range 41 {
				if w, err := live(t, seed, steps); err != nil {
					t.Fatalf("seed %d, %d steps: %v\n%s", seed, steps, err, strings.Join(w.history, "\n"))
				}
			}
			t.Fatalf("seed %d: %v", seed, err)
		}
	}
}
