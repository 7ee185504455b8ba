package replication

import (
	"context"
	"errors"
	"fmt"
	"path"
	"time"

	"bridgespan/core/replica"
	"bridgespan/guard"
	"bridgespan/tree"
)

// PartialScan looks at what is right in some folders of a replica, and at all of what
// is new in them. It is a small [Engine.Scan], for folders in which something
// changed, or often does. A replica that was never looked at is left alone.
func (e *Engine) PartialScan(ctx context.Context, id replica.ID, folders []string) (Scanned, error) {
	defer e.looking(id)()
	s := e.newScan(id)
	s.shallow = true
	if !e.scanned(s.r) || len(folders) == 0 {
		return s.done, nil
	}
	if err := e.identify(ctx, s.r); err != nil {
		return s.done, err
	}
	for _, name := range folders {
		if name != "." && !e.isFolder(ctx, s.r, name) {
			// Nobody knows of it yet: the folder above tells, or the next scan does.
			e.claims.lookedAt(place{id, keyOf(name)}, s.number)
			continue
		}
		if err := s.folder(ctx, someFolder{name: name, key: keyOf(name)}); err != nil {
			return s.done, err
		}
	}
	if err := s.gone(ctx); err != nil {
		return s.done, err
	}
	s.tellRemovals(false)
	return s.done, nil
}

// Again are the folders of a replica that are to be looked at again soon, by a
// [Engine.PartialScan]: they hold something that scans could not note, since lanes were at
// work on it. Until then lanes leave that alone.
func (e *Engine) Again(ctx context.Context, id replica.ID) (names []string) {
	r := e.replica(id)
	for _, key := range e.claims.awaitedIn(id) {
		if name, err := e.spelled(ctx, r, key); err == nil {
			names = append(names, name)
		}
	}
	return names
}

// isFolder reports whether a folder is known under its name.
func (e *Engine) isFolder(ctx context.Context, r *Replica, name string) bool {
	rec, err := e.folderRecord(ctx, r, keyOf(name))
	if err != nil || rec.Kind != replica.Folder || rec.Pending != nil {
		return false
	}
	spelled, err := e.spelled(ctx, r, keyOf(name))
	return err == nil && spelled == name
}

// Nearest returns a folder that is known and exists: the given one, or the nearest one above it. A partial scan of that finds new and
// removed folders.
func (e *Engine) Nearest(ctx context.Context, id replica.ID, folder string) string {
	r := e.replica(id)
	for ; folder != "."; folder = path.Dir(folder) {
		if !e.isFolder(ctx, r, folder) {
			continue
		}
		if _, err := r.Tree.Stat(ctx, folder); !absent(err) {
			break
		}
	}
	return folder
}

// gather is how long changes are gathered before they are looked at: who saves a
// file often does several things to it.
const gather = 100 * time.Millisecond

// A look takes a share of the time at most, however much changes, our own writes
// among it; but it comes soon.
const (
	followShare = 4
	followMost  = 5 * time.Second
)

// Follow looks at what changes at a replica as its tree tells, until ctx ends. It
// returns an error wrapping tree.ErrUnsupported at once when the tree does not tell. looked is
// called after each look.
func (e *Engine) Follow(ctx context.Context, id replica.ID, looked func(Scanned, error)) error {
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	news := make(chan string, 1024)
	guard.Go(func() {
		defer close(news)
		if err := guard.Call(func() error { return listen(ctx, e.replica(id).Tree, news) }); err != nil {
			stop(fmt.Errorf("watch: %w", err))
		}
	})
	pause := gather
	for folder := range news {
		folders := map[string]bool{folder: true}
		late := time.After(pause)
		for waiting := true; waiting; {
			select {
			case more, ok := <-news:
				waiting = ok
				if ok {
					folders[more] = true
				}
			case <-late:
				waiting = false
			}
		}
		began := time.Now()
		looked(e.lookAt(ctx, id, folders))
		pause = min(max(gather, followShare*time.Since(began)), followMost)
	}
	return context.Cause(ctx)
}

// listen passes on in which folders of a tree something changes, "" for all of them.
func listen(ctx context.Context, t tree.Tree, news chan<- string) error {
	for folder, err := range tree.Watch(ctx, t) {
		switch {
		case errors.Is(err, tree.ErrMissed):
			folder = "" // all must be looked at
		case err != nil:
			return err
		}
		select {
		case news <- folder:
		case <-ctx.Done():
			return nil
		}
	}
	return nil
}

// lookAt looks at folders, or at all when "" is one of them.
func (e *Engine) lookAt(ctx context.Context, id replica.ID, folders map[string]bool) (Scanned, error) {
	if folders[""] {
		return e.Scan(ctx, id)
	}
	var list []string
	for name := range folders {
		list = append(list, name)
	}
	return e.PartialScan(ctx, id, list)
}
