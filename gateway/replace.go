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

// Where a folder is replaced, or replaces something, what is there stays in its place until
// all that replaces it has come beside it, hidden. Then both change places, by two renames.
// That is kept in the records first: should the gateway end in between, whoever finds it
// there puts the folder back, or away.

const (
	// replacedWithin is how long a replacement may take before it counts as left behind.
	replacedWithin = 7 * 24 * time.Hour
	// recoverEvery is how often what was left behind is looked for.
	recoverEvery = 10 * time.Minute
	// recoveredAtOnce bounds how much is put right at a time.
	recoveredAtOnce = 100
)

// replace puts what a is, or a copy of it, in the place of what is at b.
func (t *transfer) replace(ctx context.Context, a, b place, to string, old tree.Entry, folder, moving bool) {
	incoming, aside := a, b
	copied := !moving || a.tree != b.tree
	if copied {
		incoming = b
		incoming.rest = tree.StagingName(b.rest, tree.PutOptions{})
	}
	aside.rest = tree.StagingName(b.rest, tree.PutOptions{})
	r := records.Replacement{Target: t.q.chosen[b.signpost].target, Final: b.rest, Aside: aside.rest, Incoming: incoming.rest, Copied: copied, Until: now().Add(replacedWithin)}
	id, err := t.q.gateway.book.KeepReplacement(ctx, r)
	if err != nil {
		t.add(to, old.Kind == tree.Folder, err)
		return
	}
	lasting := context.WithoutCancel(ctx) // who asked may be gone, and must not leave it half-done
	if done := t.changePlaces(ctx, a, b, incoming, aside, to, old, folder, copied); !done && copied {
		_ = (&failures{}).removeAll(lasting, incoming, to, folder)
	}
	// What is left of it needs another account than this one: it is put right later.
	for _, left := range []place{aside, incoming} {
		if _, err := b.tree.Stat(lasting, left.rest); !errors.Is(err, fs.ErrNotExist) && tree.Reserved(left.rest) {
			return
		}
	}
	if err := t.q.gateway.book.ForgetReplacement(lasting, id); err != nil {
		slog.Warn("a replacement is over, and could not be forgotten", "path", to, "error", err)
		return
	}
	if moving && copied && len(t.list) == 0 {
		t.removeAll(ctx, a, t.q.name, folder)
	}
}

// changePlaces brings what is to come and puts it in its place; false when what was there is
// there as before.
func (t *transfer) changePlaces(ctx context.Context, a, b, incoming, aside place, to string, old tree.Entry, folder, copied bool) bool {
	if copied && !t.copyAll(ctx, a, incoming, t.q.name, folder) {
		return false
	}
	wasFolder := old.Kind == tree.Folder
	if err := b.tree.Rename(ctx, b.rest, aside.rest, false); err != nil {
		t.add(to, wasFolder, err)
		return false
	}
	lasting := context.WithoutCancel(ctx)
	if err := b.tree.Rename(lasting, incoming.rest, b.rest, false); err != nil {
		t.add(t.q.name, folder, err)
		if err := b.tree.Rename(lasting, aside.rest, b.rest, false); err != nil {
			t.add(to, wasFolder, err)
		}
		return false
	}
	t.removeAll(lasting, aside, to, wasFolder)
	return true
}

// Recover puts right what gateways left behind that ended in the middle of a replacement,
// and says when to look again. open opens a place with an account that may do so.
func (g *Gateway) Recover(ctx context.Context, open func(context.Context, namespace.Target) (tree.Tree, error)) time.Duration {
	left, err := g.book.Replacements(ctx, now(), recoveredAtOnce)
	if err != nil {
		slog.Debug("what gateways left behind cannot be read now", "error", err)
		return recoverEvery
	}
	for _, r := range left {
		if err := recoverOne(ctx, open, r); err != nil {
			slog.Warn("what a gateway left behind could not be put right; it is tried again", "location", r.Target.String(), "path", r.Final, "error", err)
			continue
		}
		if err := g.book.ForgetReplacement(ctx, r.ID); err != nil {
			slog.Debug("what was put right is not forgotten yet", "error", err)
		}
	}
	return recoverEvery
}

func recoverOne(ctx context.Context, open func(context.Context, namespace.Target) (tree.Tree, error), r records.Replacement) error {
	t, err := open(ctx, r.Target)
	if err != nil {
		return err
	}
	defer t.Close()
	came, err := missing(ctx, t, r.Incoming) // it has left where it was, for its place
	if err != nil {
		return err
	}
	gone, err := missing(ctx, t, r.Aside)
	switch {
	case err != nil:
		return err
	case !gone && came:
		err = tree.RemoveAll(ctx, t, r.Aside)
	case !gone: // people's own: it goes back, beside what they have put there since
		err = t.Rename(ctx, r.Aside, r.Final, false)
		if errors.Is(err, fs.ErrExist) {
			err = t.Rename(ctx, r.Aside, r.Final+" (put back)", false)
		}
		if err == nil {
			slog.Warn("a folder was put back that a gateway had put aside when it ended", "location", r.Target.String(), "path", r.Final)
		}
	}
	if err == nil && r.Copied && !came {
		err = tree.RemoveAll(ctx, t, r.Incoming)
	}
	return err
}

func missing(ctx context.Context, t tree.Tree, name string) (bool, error) {
	_, err := t.Stat(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return true, nil
	}
	return false, err
}
