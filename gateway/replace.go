package gateway

import (
	"context"
	"errors"
	"io/fs"
	"log/slog"
	"time"

	"bridgespan/core/namespace"
	"bridgespan/records"
	"bridgespan/tree"
)

// A folder that is replaced, or replaces something, stays in its place until its replacement
// was copied beside it, hidden. Then both change places by two renames. The records know of
// it: when the gateway ends in between, another one puts the old folder back, or removes it.

const (
	// copiedWithin bounds copying. Until then nothing of people's own is hidden.
	copiedWithin = 7 * 24 * time.Hour
	// swappedWithin bounds the two renames, each of which waits 2 minutes at most for an answer.
	swappedWithin = 10 * time.Minute
	// recoverEvery is how often unfinished replacements are looked for.
	recoverEvery = 5 * time.Minute
	// recoveredAtOnce bounds how many are finished at a time.
	recoveredAtOnce = 100
)

// replacement is one that is under way.
type replacement struct {
	*transfer
	id                  int64
	old, aside          place // the folder that is replaced, and where it waits to be removed
	incoming            place // its replacement, before it takes the place
	copied              bool  // incoming was copied for that, and is hidden
	oldFolder, isFolder bool
	to                  string // full path, for failures
}

// replace puts a, or a copy of it, in the place of b.
func (t *transfer) replace(ctx context.Context, a, b place, to string, old tree.Entry, folder, moving bool) {
	r := &replacement{transfer: t, old: b, aside: b, incoming: a, copied: !moving || a.tree != b.tree, oldFolder: old.Kind == tree.Folder, isFolder: folder, to: to}
	r.aside.rest = tree.StagingName(b.rest, tree.PutOptions{})
	if r.copied {
		r.incoming = b
		r.incoming.rest = tree.StagingName(b.rest, tree.PutOptions{})
	}
	var err error
	if r.id, err = t.q.gateway.book.KeepReplacement(ctx, records.Replacement{Target: t.q.chosen[b.signpost].target, Final: b.rest, Aside: r.aside.rest, Incoming: r.incoming.rest,
		Copied: r.copied, Until: now().Add(copiedWithin)}); err != nil {
		t.add(to, r.oldFolder, err)
		return
	}
	lasting := context.WithoutCancel(ctx) // who asked may be gone, and must not leave it half-done
	if r.copied && !t.copyAll(ctx, a, r.incoming, t.q.name, folder) {
		r.giveUp(lasting)
		return
	}
	if !r.swap(lasting) {
		return
	}
	if t.removeAll(lasting, r.aside, to, r.oldFolder) {
		r.forget(lasting)
	}
	if moving && r.copied && len(t.list) == 0 {
		t.removeAll(ctx, a, t.q.name, folder)
	}
}

// swap lets both change places; false when the old folder is where it was, or will be put
// back.
func (r *replacement) swap(ctx context.Context) bool {
	book := r.q.gateway.book
	if err := book.SwapReplacement(ctx, r.id, false, now().Add(swappedWithin)); err != nil {
		r.add(r.to, r.oldFolder, err)
		r.giveUp(ctx)
		return false
	}
	if err := r.old.tree.Rename(ctx, r.old.rest, r.aside.rest, false); err != nil {
		r.add(r.to, r.oldFolder, err)
		r.giveUp(ctx)
		return false
	}
	if err := r.old.tree.Rename(ctx, r.incoming.rest, r.old.rest, false); err != nil {
		r.add(r.q.name, r.isFolder, err)
		if err := r.old.tree.Rename(ctx, r.aside.rest, r.old.rest, false); err != nil {
			r.add(r.to, r.oldFolder, err) // the records know of it: it is put back later
			return false
		}
		r.giveUp(ctx)
		return false
	}
	if err := book.SwapReplacement(ctx, r.id, true, now().Add(copiedWithin)); err != nil {
		slog.Warn("a replaced folder may come back beside its replacement", "path", r.to, "error", err)
	}
	return true
}

// giveUp removes the copy. The old folder is in its place.
func (r *replacement) giveUp(ctx context.Context) {
	if !r.copied || (&failures{}).removeAll(ctx, r.incoming, r.to, r.isFolder) {
		r.forget(ctx)
	}
}

func (r *replacement) forget(ctx context.Context) {
	if err := r.q.gateway.book.ForgetReplacement(ctx, r.id); err != nil {
		slog.Warn("a finished replacement could not be removed from the records", "path", r.to, "error", err)
	}
}

// Recover finishes replacements whose gateway has ended, and returns when to look again.
// open opens a target with an account that may rename and remove everything there.
func (g *Gateway) Recover(ctx context.Context, open func(context.Context, namespace.Target) (tree.Tree, error)) time.Duration {
	unfinished, err := g.book.Replacements(ctx, now(), recoveredAtOnce)
	if err != nil {
		slog.Debug("unfinished replacements cannot be read now", "error", err)
		return recoverEvery
	}
	for _, r := range unfinished {
		if err := finish(ctx, open, r); err != nil {
			slog.Warn("an unfinished replacement of a folder is tried again later", "location", r.Target.String(), "path", r.Final, "error", err)
			continue
		}
		if err := g.book.ForgetReplacement(ctx, r.ID); err != nil {
			slog.Warn("a finished replacement could not be removed from the records", "path", r.Final, "error", err)
		}
	}
	return recoverEvery
}

// finish removes the old folder when its replacement is in its place, and puts it back
// otherwise: under another name when people have made a new one since.
func finish(ctx context.Context, open func(context.Context, namespace.Target) (tree.Tree, error), r records.Replacement) error {
	t, err := open(ctx, r.Target)
	if err != nil {
		return err
	}
	defer t.Close()
	if r.Placed {
		return tree.RemoveAll(ctx, t, r.Aside)
	}
	err = t.Rename(ctx, r.Aside, r.Final, false)
	if errors.Is(err, fs.ErrExist) {
		err = t.Rename(ctx, r.Aside, r.Final+" (put back)", false)
	}
	switch {
	case err == nil:
		slog.Warn("a folder was put back whose replacement was not finished", "location", r.Target.String(), "path", r.Final)
	case !errors.Is(err, fs.ErrNotExist): // it was never put aside
		return err
	}
	if !r.Copied {
		return nil
	}
	return tree.RemoveAll(ctx, t, r.Incoming)
}
