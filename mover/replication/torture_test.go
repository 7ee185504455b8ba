package replication

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"bridgespan/core/replica"
	"bridgespan/tree"
)

var (
	seeds    = flag.Int("seeds", 800, "how many histories TestTorture makes")
	fromSeed = flag.Uint64("from-seed", 1, "the first of them")
)

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
	for _, r := range w.replicas {
		if w.limited && w.random.IntN(3) == 0 {
			w.decide(r)
		}
	}
	for _, l := range w.lanes {
		w.slow[l], w.stopped[l] = w.random.IntN(6) == 0, w.random.IntN(8) == 0 || w.stopped[l] && w.random.IntN(3) > 0
	}
	ctx, w.cancel = context.WithCancel(ctx)
	defer w.cancel()
	if w.random.IntN(6) == 0 {
		w.interrupt = 1 + w.random.IntN(60)
	}
	most := 3
	if w.deep {
		most = len(w.replicas) + len(w.lanes)
	}
	var tasks []func()
	for _, i := range w.random.Perm(len(w.replicas) + len(w.lanes))[:1+w.random.IntN(most)] {
		tasks = append(tasks, w.task(ctx, i))
	}
	w.together(tasks...)
	w.flaky, w.busy = false, false
	switch {
	case w.crashed:
		w.log("crashed")
		w.start()
	case w.interrupt == 0:
		w.start()
	}
	w.fuel, w.interrupt = -1, -1
}

// task is something that the engine can do: scan a replica, look at some of its folders,
// or carry a lane.
func (w *world) task(ctx context.Context, i int) func() {
	if i < len(w.replicas) {
		if w.stubs && i > 0 && w.random.IntN(3) == 0 {
			return func() { w.offload(ctx, w.replicas[i]) }
		}
		if w.random.IntN(4) == 0 {
			return func() { w.partialScan(ctx, w.replicas[i]) }
		}
		return func() {
			w.log("scan %s", w.replicas[i].Name)
			done, err := w.engine.Scan(ctx, w.replicas[i].ID)
			w.log("scanned %s: %+v, %v", w.replicas[i].Name, done, err)
		}
	}
	l, limit := w.lanes[i-len(w.replicas)], 1+w.random.IntN(6)
	if w.deep {
		limit = 1 + w.random.IntN(40)
	}
	return func() {
		if w.stopped[l] {
			return
		}
		w.log("carry %d to %d", l.From, l.To)
		done, err := w.engine.Carry(ctx, l, limit)
		w.log("carried %d to %d: %+v, %v", l.From, l.To, done, err)
	}
}

// noContent is shown in the place of content that is nowhere.
const noContent = "a stub without content"

// offload makes stubs of some files of an edge.
func (w *world) offload(ctx context.Context, r *Replica) {
	for e, err := range tree.Walk(ctx, r.Tree, ".", tree.Bare) {
		if err != nil {
			return
		}
		if e.Kind != tree.File || own(e.Path) || w.random.IntN(2) == 0 {
			continue
		}
		_, err := w.engine.Offload(ctx, r.ID, w.replicas[0].ID, e.Path)
		w.log("offload %s at %s: %v", e.Path, r.Name, err)
	}
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
		if errors.Is(err, tree.ErrNoContent) { // until the edge hears of what the bucket has now
			if own(e.Path) {
				continue
			}
			shown[e.Path] = fmt.Sprintf(noContent+"|%v %v", e.Modified.Format(time.TimeOnly), e.Descriptor)
			continue
		}
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
	if err := w.nothingImagined(); err != nil && !w.clashed && !w.restored {
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
			if text == noContent && w.clashed { // it hears of nothing there any more
				continue
			}
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
			for key, rec := range w.database.all(other.ID) {
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
	defer w.finish()
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
	w.finish()
	w.start() // what was left is swept once, by an engine that begins
	if err := w.rest(); err != nil {
		return err
	}
	return w.check()
}

// TestTorture makes histories, and holds the end of each against the promises.
func TestTorture(t *testing.T) {
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1)) // goroutines take turns in one order then
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
