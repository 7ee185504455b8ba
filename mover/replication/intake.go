package replication

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"sync"

	"golang.org/x/sync/semaphore"

	"bridgespan/core/replica"
	"bridgespan/tree"
)

// intakes bound what is on its way in to replicas. The zero value is ready.
type intakes struct {
	mu   sync.Mutex
	room map[replica.ID]*semaphore.Weighted
}

// enterIntake waits until there is room for so many bytes in a replica's intake.
// What is larger than all of it has it alone. The caller must call leave.
func (e *Engine) enterIntake(ctx context.Context, r *Replica, bytes int64) (leave func(), err error) {
	if r.Intake <= 0 {
		return func() {}, nil
	}
	e.intakes.mu.Lock()
	if e.intakes.room == nil {
		e.intakes.room = map[replica.ID]*semaphore.Weighted{}
	}
	room := e.intakes.room[r.ID]
	if room == nil {
		room = semaphore.NewWeighted(r.Intake)
		e.intakes.room[r.ID] = room
	}
	e.intakes.mu.Unlock()
	bytes = min(bytes, r.Intake)
	if err := room.Acquire(ctx, bytes); err != nil {
		return nil, err
	}
	return func() { room.Release(bytes) }, nil
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
	own := e.intakeOfRun()
	for folder, err := range r.Tree.List(ctx, intakeFolder, tree.Plain) {
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
	for entry, err := range r.Tree.List(ctx, name, tree.Plain) {
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
