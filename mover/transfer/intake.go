package transfer

import (
	"context"
	"crypto/rand"
	"errors"
	"io/fs"
	"path"
	"strconv"
	"sync"

	"bridgespan/tree"
)

func uniqueName() string { return rand.Text() }

// stagingDirCount is over how many folders of an intake files are spread: some servers look
// through all of a folder for every name that is new in it.
const stagingDirCount = 64

// stagingDirs are the folders of an intake that this endpoint fills: what lies beside them
// was left by a transfer that was interrupted.
type stagingDirs struct {
	mu    sync.Mutex
	run   string
	used  int
	ready [stagingDirCount]bool
}

// own is the folder that holds them.
func (e *Endpoint) own() string {
	s := &e.staging
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.run == "" {
		s.run = path.Join(IntakeFolder, e.unique())
	}
	return s.run
}

// stagedName makes a name in the intake, and the folder for it.
func (e *Endpoint) stagedName(ctx context.Context) (string, error) {
	own, s := e.own(), &e.staging
	s.mu.Lock()
	n := s.used % stagingDirCount
	s.used++
	ready := s.ready[n]
	s.mu.Unlock()
	folder := path.Join(own, strconv.Itoa(n))
	if !ready {
		if err := tree.MkdirAll(ctx, e.Tree, folder); err != nil {
			return "", err
		}
		s.mu.Lock()
		s.ready[n] = true
		s.mu.Unlock()
	}
	return path.Join(folder, e.unique()), nil
}

// Renew makes the folders of the intake anew when they are next needed: somebody may have
// removed them.
func (e *Endpoint) Renew() {
	e.staging.mu.Lock()
	defer e.staging.mu.Unlock()
	e.staging.ready = [stagingDirCount]bool{}
}

// Sweep removes from the intake, once, what other transfers left there, except the names that
// wanted returns and what an interrupted transfer may resume. What cannot be removed is
// reported to failed.
func (e *Endpoint) Sweep(ctx context.Context, wanted func(context.Context) ([]string, error), failed func(name string, err error)) error {
	e.mu.Lock()
	swept := e.swept
	e.mu.Unlock()
	if swept {
		return nil
	}
	spared := map[string]bool{e.own(): true}
	for _, list := range []func(context.Context) ([]string, error){wanted, e.awaited} {
		names, err := list(ctx)
		if err != nil {
			return err
		}
		for _, name := range names {
			spared[name] = true
		}
	}
	for folder, err := range e.Tree.List(ctx, IntakeFolder, tree.Bare) {
		if absent(err) {
			break
		}
		if err != nil {
			return err
		}
		name := path.Join(IntakeFolder, folder.Name)
		if spared[name] {
			continue
		}
		if err := e.removeAll(ctx, name, folder.Kind, spared); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			failed(name, err)
		}
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.swept = true
	return nil
}

// removeAll removes a file or folder of an intake, but what is spared in it.
func (e *Endpoint) removeAll(ctx context.Context, name string, kind tree.Kind, spared map[string]bool) error {
	if kind != tree.Folder {
		return e.remove(ctx, name)
	}
	var below []tree.Named
	for entry, err := range e.Tree.List(ctx, name, tree.Bare) {
		if err != nil {
			return err
		}
		below = append(below, tree.Named{Path: path.Join(name, entry.Name), Entry: entry})
	}
	for _, b := range below {
		if spared[b.Path] {
			continue
		}
		if err := e.removeAll(ctx, b.Path, b.Kind, spared); err != nil {
			return err
		}
	}
	if err := e.Tree.Remove(ctx, name); err != nil && !absent(err) && !errors.Is(err, tree.ErrNotEmpty) {
		return err
	}
	return nil
}

// remove removes a staged file, also when it has permissions by now that keep us out: what we
// staged is ours to permit.
func (e *Endpoint) remove(ctx context.Context, name string) error {
	err := e.Tree.Remove(ctx, name)
	if absent(err) {
		return nil
	}
	if !errors.Is(err, fs.ErrPermission) {
		return err
	}
	usual, bad := e.Tree.Descriptor(ctx, IntakeFolder)
	if bad == nil {
		bad = e.Apply(ctx, name, tree.Meta{Descriptor: usual})
	}
	if bad != nil {
		return err
	}
	return e.Tree.Remove(ctx, name)
}

// Drop removes a staged file that is not wanted any more, also when ctx has ended. While the
// endpoint is away, DropLeft does it later.
func (e *Endpoint) Drop(ctx context.Context, staged string) error {
	err := e.remove(context.WithoutCancel(ctx), staged)
	if err != nil {
		e.leave(staged)
	}
	return err
}

// DropFolder is Drop for a folder with all that is in it.
func (e *Endpoint) DropFolder(ctx context.Context, staged string) error {
	err := e.removeAll(context.WithoutCancel(ctx), staged, tree.Folder, nil)
	if err != nil && !absent(err) {
		e.leave(staged)
	}
	return err
}

// mostLeft bounds how many names are remembered of what could not be removed; the rest is
// swept by the next process.
const mostLeft = 10_000

// leave notes what is to be removed when the endpoint is back.
func (e *Endpoint) leave(staged string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if len(e.left) < mostLeft {
		e.left = append(e.left, staged)
	}
}

// DropLeft removes what Drop could not.
func (e *Endpoint) DropLeft(ctx context.Context) {
	e.mu.Lock()
	left := e.left
	e.left = nil
	e.mu.Unlock()
	for i, name := range left {
		entry, err := e.Tree.Stat(ctx, name)
		switch {
		case absent(err):
		case err == nil && entry.Kind == tree.Folder:
			err = e.DropFolder(ctx, name)
		case err == nil:
			err = e.Drop(ctx, name)
		default:
			e.leave(name)
		}
		if err != nil && !absent(err) {
			e.mu.Lock()
			e.left = append(e.left, left[i+1:]...)
			e.mu.Unlock()
			return
		}
	}
}
