package replication

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"sync"
	"time"

	"golang.org/x/sync/semaphore"

	"bridgespan/core/replica"
	"bridgespan/tree"
)

// intakes bound what is on its way in to replicas. The zero value is ready.
type intakes struct {
	mu  sync.Mutex
	all map[replica.ID]*intake
}

// intake is one that has a quota.
type intake struct {
	room *semaphore.Weighted

	mu      sync.Mutex // of what follows
	used    int64
	waiting int
	since   time.Time // when the first of those who wait began to
}

// Intake tells how many bytes are on their way in to a replica that has a quota,
// and since when something has waited for room there; the zero time when nothing does.
func (e *Engine) Intake(id replica.ID) (used int64, full time.Time) {
	e.intakes.mu.Lock()
	in := e.intakes.all[id]
	e.intakes.mu.Unlock()
	if in == nil {
		return 0, time.Time{}
	}
	in.mu.Lock()
	defer in.mu.Unlock()
	return in.used, in.since
}

// enter waits for room, and notes how long others have waited already.
func (in *intake) enter(ctx context.Context, bytes int64, now func() time.Time) error {
	if !in.room.TryAcquire(bytes) {
		in.wait(1, now())
		err := in.room.Acquire(ctx, bytes)
		in.wait(-1, time.Time{})
		if err != nil {
			return err
		}
	}
	in.use(bytes)
	return nil
}

func (in *intake) leave(bytes int64) {
	in.use(-bytes)
	in.room.Release(bytes)
}

func (in *intake) use(bytes int64) {
	in.mu.Lock()
	defer in.mu.Unlock()
	in.used += bytes
}

func (in *intake) wait(n int, at time.Time) {
	in.mu.Lock()
	defer in.mu.Unlock()
	if in.waiting += n; in.waiting == 0 || n > 0 && in.waiting == 1 {
		in.since = at
	}
}

// enterIntake waits until there is room for so many bytes in a replica's intake.
// What is larger than all of it has it alone. The caller must call leave.
func (e *Engine) enterIntake(ctx context.Context, r *Replica, bytes int64) (leave func(), err error) {
	if r.Intake <= 0 {
		return func() {}, nil
	}
	e.intakes.mu.Lock()
	if e.intakes.all == nil {
		e.intakes.all = map[replica.ID]*intake{}
	}
	in := e.intakes.all[r.ID]
	if in == nil {
		in = &intake{room: semaphore.NewWeighted(r.Intake)}
		e.intakes.all[r.ID] = in
	}
	e.intakes.mu.Unlock()
	bytes = min(bytes, r.Intake)
	if err := in.enter(ctx, bytes, e.Now); err != nil {
		return nil, err
	}
	return func() { in.leave(bytes) }, nil
}

// intakeOfRun is where files wait that this engine brings: what lies beside it
// was left by one that was broken off.
func (e *Engine) intakeOfRun() string {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.run == "" {
		e.run = e.Unique()
	}
	return intakeFolder + "/" + e.run
}

// sweep removes from a replica's intake what another engine left there, but what
// is still to be settled.
func (e *Engine) sweep(ctx context.Context, r *Replica) error {
	e.mu.Lock()
	swept := e.swept[r.ID]
	e.mu.Unlock()
	if swept {
		return nil
	}
	unfinished, err := e.Store.Unfinished(ctx, r.ID)
	if err != nil {
		return err
	}
	wanted := map[string]bool{}
	for _, rec := range unfinished {
		wanted[rec.Pending.Staged] = true
	}
	awaited, err := e.awaited(ctx, r)
	if err != nil {
		return err
	}
	for _, name := range awaited {
		wanted[name] = true
	}
	own := e.intakeOfRun()
	for folder, err := range r.Tree.List(ctx, intakeFolder, tree.Bare) {
		if absent(err) {
			break
		}
		if err != nil {
			return err
		}
		name := path.Join(intakeFolder, folder.Name)
		if name == own || wanted[name] {
			continue
		}
		if err := e.sweepFolder(ctx, r, name, folder.Kind, wanted); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			e.trouble(r, name, err)
		}
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.swept == nil {
		e.swept = map[replica.ID]bool{}
	}
	e.swept[r.ID] = true
	return nil
}

// sweepFolder removes a folder of an intake, but what is wanted in it.
func (e *Engine) sweepFolder(ctx context.Context, r *Replica, name string, kind tree.Kind, wanted map[string]bool) error {
	if kind != tree.Folder {
		return discardStaged(ctx, r, name)
	}
	var below []tree.Named
	for entry, err := range r.Tree.List(ctx, name, tree.Bare) {
		if err != nil {
			return err
		}
		below = append(below, tree.Named{Path: path.Join(name, entry.Name), Entry: entry})
	}
	for _, b := range below {
		if wanted[b.Path] {
			continue
		}
		if err := e.sweepFolder(ctx, r, b.Path, b.Kind, wanted); err != nil {
			return err
		}
	}
	if err := r.Tree.Remove(ctx, name); err != nil && !absent(err) && !errors.Is(err, tree.ErrNotEmpty) {
		return err
	}
	return nil
}

// mostLeft bounds how many names are remembered of what could not be discarded; the
// rest is swept by the next engine.
const mostLeft = 10_000

// drop discards what is not wanted any more, also when ctx has ended. What a
// replica that is away keeps is dropped when it is back.
func (e *Engine) drop(ctx context.Context, r *Replica, staged string) error {
	err := discardStaged(context.WithoutCancel(ctx), r, staged)
	if err != nil {
		e.leaveFor(r, staged)
	}
	return err
}

// leaveFor notes what is to be dropped when a replica is back.
func (e *Engine) leaveFor(r *Replica, staged string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.left == nil {
		e.left = map[replica.ID][]string{}
	}
	if len(e.left[r.ID]) < mostLeft {
		e.left[r.ID] = append(e.left[r.ID], staged)
	}
}

// dropLeft discards what could not be discarded before.
func (e *Engine) dropLeft(ctx context.Context, r *Replica) {
	e.mu.Lock()
	left := e.left[r.ID]
	delete(e.left, r.ID)
	e.mu.Unlock()
	for i, name := range left {
		entry, err := r.Tree.Stat(ctx, name)
		switch {
		case absent(err):
		case err == nil && entry.Kind == tree.Folder:
			err = e.dropFolder(ctx, r, name)
		case err == nil:
			err = e.drop(ctx, r, name)
		default:
			e.leaveFor(r, name)
		}
		if err != nil && !absent(err) {
			e.mu.Lock()
			e.left[r.ID] = append(e.left[r.ID], left[i+1:]...)
			e.mu.Unlock()
			return
		}
	}
}

// discardStaged removes what waits in an intake, also when it has permissions by
// now that keep us out: what we brought is ours to permit.
func discardStaged(ctx context.Context, r *Replica, name string) error {
	err := r.Tree.Remove(ctx, name)
	if absent(err) {
		return nil
	}
	if !errors.Is(err, fs.ErrPermission) {
		return err
	}
	usual, bad := r.Tree.Descriptor(ctx, intakeFolder)
	if bad == nil {
		bad = apply(ctx, r, name, tree.Meta{Descriptor: usual})
	}
	if bad != nil {
		return err
	}
	return r.Tree.Remove(ctx, name)
}
