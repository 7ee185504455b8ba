package replication

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"bridgespan/core/replica"
)

// mostSteps is how many steps the engine may take until all replicas are the same, once
// people have stopped: many more than it takes.
const mostSteps = 60_000

// resting is the engine at work as the service has it: each replica is scanned and each
// lane carries again and again, side by side, until nothing is left to do.
type resting struct {
	*world
	troubles map[string]string
	quiet    map[replica.ID]int // the changes that were kept before a scan that found nothing
	mu       sync.Mutex         // of these: tasks look at them between their turns
	over     bool
	until    int
	err      error
}

// rest lets the engine work until nothing is left to do.
func (w *world) rest() error {
	clear(w.away)
	clear(w.full)
	clear(w.slow)
	clear(w.stopped)
	w.clashed = w.clashed || w.clashes()
	r := &resting{world: w, troubles: map[string]string{}, quiet: map[replica.ID]int{}, until: w.steps + mostSteps}
	w.engine.Trouble = func(t Trouble) { r.troubles[t.Replica+" "+t.Path] = t.Err.Error() }
	var tasks []func()
	for _, one := range w.replicas {
		tasks = append(tasks, func() { r.scan(one) })
	}
	for _, l := range w.lanes {
		tasks = append(tasks, func() { r.carry(l) })
	}
	// What was under way when all seemed done may have found something.
	for r.err == nil && r.steps <= r.until && !r.settled() {
		r.over = false
		w.together(tasks...)
	}
	w.clashed = w.clashed || w.clashes()
	if r.err != nil || r.settled() || w.clashes() {
		return r.err
	}
	return fmt.Errorf("there is no end to it: %v\n%s", r.troubles, w.stuck())
}

func (r *resting) fail(err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.err = errors.Join(r.err, err)
}

// goesOn reports whether there may be something left to do.
func (r *resting) goesOn() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.over = r.over || r.err != nil || r.steps > r.until || r.settled()
	return !r.over
}

// settled reports whether scans of all replicas found nothing since the last change.
func (r *resting) settled() bool {
	for _, one := range r.replicas {
		if kept, ok := r.quiet[one.ID]; !ok || kept != r.database.saves || one.RemovalsWait {
			return false
		}
	}
	return !slices.ContainsFunc(r.lanes, func(l replica.Lane) bool { return len(r.database.backlog[l]) > 0 })
}

// scan scans a replica again and again, and looks at what changed last in between.
func (r *resting) scan(one *Replica) {
	for r.goesOn() {
		r.tick()
		began, kept := r.steps, r.database.saves
		s, err := r.engine.Scan(context.Background(), one.ID)
		if err != nil {
			r.fail(err)
			return
		}
		r.found(one, s, kept)
		r.decide(one)
		for left := min((r.steps-began)*r.scanShare, mostSteps/20); left > 0 && r.goesOn(); left -= 100 {
			r.pause(fmt.Sprint("scan again ", one.ID), min(left, 100))
			r.partialScan(context.Background(), one)
		}
	}
}

// found notes what a scan found that began after so many changes were kept.
func (r *resting) found(one *Replica, s Scanned, kept int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.quiet, one.ID)
	if s.Changed+s.Busy == 0 && kept == r.database.saves {
		r.quiet[one.ID] = kept
	}
}

// carry works a lane off again and again.
func (r *resting) carry(l replica.Lane) {
	for r.goesOn() {
		r.tick()
		done, err := r.engine.Carry(context.Background(), l, 64)
		if err != nil {
			r.fail(err)
			return
		}
		if done.Done == 0 {
			r.pause(fmt.Sprint("carry again ", l), 50)
		}
	}
}

// partialScan looks at the folders of a replica in which scans found changes.
func (w *world) partialScan(ctx context.Context, r *Replica) {
	warm := slices.Compact(slices.Sorted(slices.Values(w.warm[r.ID])))
	delete(w.warm, r.ID)
	warm = append(warm, w.engine.Again(ctx, r.ID)...)
	if len(warm) > 0 {
		_, _ = w.engine.PartialScan(ctx, r.ID, warm)
	}
}

// stuck tells what waits, with what is known of it at both ends.
func (w *world) stuck() string {
	var b strings.Builder
	for _, l := range w.lanes {
		for _, key := range slices.Sorted(maps.Keys(w.database.backlog[l])) {
			from, to := w.database.record(l.From, key), w.database.record(l.To, key)
			fmt.Fprintf(&b, "%d to %d: %s (%d): %s %v, %s %v\n%+v\n", l.From, l.To, key, w.database.backlog[l][key].Whole, from.Kind, from.Version, to.Kind, to.Version, from)
		}
	}
	for i, r := range w.replicas {
		fmt.Fprintf(&b, "%s: seed %v, scanned %v, filled %v\n", r.Name, r.Seed, r.Scanned, r.Filled)
		shown, _ := w.show(i)
		keys := map[string]bool{}
		for name := range shown {
			keys[keyOf(name)] = true
		}
		for key, rec := range w.database.all(r.ID) {
			if rec.Kind != replica.None && !keys[key] {
				fmt.Fprintf(&b, "%s is a %s in the records of %s, and not there\n", key, rec.Kind, r.Name)
			}
			delete(keys, key)
		}
		for key := range keys {
			fmt.Fprintf(&b, "%s is there at %s, and not in its records\n", key, r.Name)
		}
	}
	return b.String()
}
