package replication

import (
	"context"
	"errors"
	"path"

	"bridgespan/core/acl"
	"bridgespan/core/replica"
	"bridgespan/tree"
)

// settleAll finishes or takes back what was begun at a replica and broken off, and returns
// how much of it has to wait for something else.
func (e *Engine) settleAll(ctx context.Context, r *Replica) (waits int, err error) {
	if e.known.allSettled(r) {
		return 0, nil
	}
	records, err := e.Store.Unfinished(ctx, r.ID)
	if err != nil {
		return 0, err
	}
	var pending []string
	for _, rec := range records {
		err := e.settleAlone(ctx, r, rec.Key)
		switch {
		case err == nil:
			continue
		case ctx.Err() != nil:
			return waits, ctx.Err()
		case errors.Is(err, errLater):
			waits++
		default:
			e.trouble(r, rec.Key, err) // it stays pending, and nothing else is done there
		}
		pending = append(pending, rec.Key)
	}
	e.known.noteSettled(r, pending)
	return waits, nil
}

// settleAlone settles a path. It returns errBusy when another task is at work on it.
func (e *Engine) settleAlone(ctx context.Context, r *Replica, key string) error {
	h := e.newHold()
	defer h.release()
	if !h.change(r, key) {
		return errBusy
	}
	rec, err := e.get(ctx, r, key)
	if err != nil || rec.Pending == nil {
		return err
	}
	return e.settle(ctx, r, rec)
}

// settle finishes or takes back what is pending at one path, which is claimed.
func (e *Engine) settle(ctx context.Context, r *Replica, rec replica.Record) error {
	p := rec.Pending
	name, err := e.pathOf(ctx, r, &replica.Record{Key: rec.Key, Content: p.Content}, &rec)
	if err != nil {
		return err
	}
	entry, there, err := e.look(ctx, r, name)
	if err != nil {
		return err
	}
	if !there {
		release, err := e.standing(ctx, r, rec.Key, name)
		if err != nil {
			return err
		}
		defer release()
		if entry, there, err = e.look(ctx, r, name); err != nil {
			return err
		}
	}
	left, err := e.remains(ctx, r, p)
	if err != nil {
		return err
	}
	done, brought, err := e.isDone(ctx, r, name, p, entry, there)
	switch {
	case err != nil:
		return err
	case done:
		return e.finishLate(ctx, r, name, rec, entry, brought)
	case there && rec.Kind != replica.None && asKept(&rec, entry), !there && rec.Kind == replica.None && !left.staged:
		return e.takeBack(ctx, r, rec, false) // it was not begun
	case there: // people have put something there meanwhile
		return e.takeBack(ctx, r, rec, left.attic)
	}
	return e.bringBack(ctx, r, name, rec, left)
}

// finishLate finishes what was done and not yet noted. Since then people may
// have changed who may do what there.
func (e *Engine) finishLate(ctx context.Context, r *Replica, name string, rec replica.Record, entry tree.Entry, brought *tree.Entry) error {
	p := rec.Pending
	shown := e.seenOf(entry)
	ours := sameRights(shown.Descriptor, p.Permissions.Descriptor) && shown.Attributes == p.Permissions.Attributes
	notYet := p.Staged == "" && (rec.Kind != p.Content.Kind || shown.Descriptor == rec.Seen.Descriptor && shown.Attributes == rec.Seen.Attributes)
	if p.Content.Kind != replica.None && !ours && !notYet {
		theirs := *p
		theirs.Permissions = replica.Permissions{Version: p.Permissions.Version.Advance(r.ID), Descriptor: shown.Descriptor, Attributes: shown.Attributes, Changed: e.Now(), By: r.ID}
		rec.Pending = &theirs
	}
	if p.Staged == "" {
		brought = nil // it was there before, and is to have what is pending
	}
	return e.finish(ctx, r, name, rec, brought, e.outOf(r, 0))
}

// sameRights reports whether two descriptors have one owner and let the same
// people do the same.
func sameRights(a, b acl.Descriptor) bool {
	p, q := a.Parts(), b.Parts()
	return a == b || p.Owner == q.Owner && len(acl.Compare(p, q)) == 0
}

// remains is what is left of something that was broken off, beside its path.
type remains struct{ staged, attic bool }

func (e *Engine) remains(ctx context.Context, r *Replica, p *replica.Pending) (left remains, err error) {
	if left.staged, err = exists(ctx, r, p.Staged); err == nil {
		left.attic, err = exists(ctx, r, p.Attic)
	}
	return left, err
}

func exists(ctx context.Context, r *Replica, name string) (bool, error) {
	if name == "" {
		return false, nil
	}
	_, err := r.Tree.Stat(ctx, name)
	if absent(err) {
		return false, nil
	}
	return err == nil, err
}

// isDone reports whether what is at a path is what was to come there, and
// returns it when it is a file that was read to tell.
func (e *Engine) isDone(ctx context.Context, r *Replica, name string, p *replica.Pending, entry tree.Entry, there bool) (bool, *tree.Entry, error) {
	switch p.Content.Kind {
	case replica.None:
		return !there, nil, nil
	case replica.Folder:
		return there && entry.Kind == tree.Folder, nil, nil
	}
	if !there || entry.Kind != tree.File || entry.Size != p.Content.Size || entry.Modified.Sub(p.Content.Modified).Abs() > replica.TimeTolerance {
		return false, nil, nil
	}
	d, opened, err := digest(ctx, r.Tree, name)
	opened.Descriptor, opened.Attributes = entry.Descriptor, entry.Attributes
	looked := opened.Size == entry.Size && opened.Modified.Equal(entry.Modified)
	if c := r.Tree.Capabilities(); err == nil && looked && !p.Content.Digest.Known() && (p.Staged == "" && c.WholePuts || p.Staged != "" && c.Stubs) {
		p.Content.Digest = d // it was not hashed before it was written, or came as a stub: length and time tell
	}
	return d == p.Content.Digest, &opened, err
}

// bringBack puts something where nothing is any more: what was to come, or else
// what stood there.
func (e *Engine) bringBack(ctx context.Context, r *Replica, name string, rec replica.Record, left remains) error {
	p := rec.Pending
	switch {
	case left.staged:
		err := r.Tree.Rename(ctx, p.Staged, name, false)
		if absent(err) { // people have removed the folder that it was to come to
			return e.takeBack(ctx, r, rec, left.attic)
		}
		if err != nil {
			return err
		}
		return e.settle(ctx, r, rec) // which finds it done
	case left.attic:
		above, err := e.spelled(ctx, r, parentKey(rec.Key))
		if err != nil {
			return err
		}
		err = r.Tree.Rename(ctx, p.Attic, path.Join(above, rec.Name), false)
		if absent(err) {
			return e.takeBack(ctx, r, rec, true)
		}
		if err != nil {
			return err
		}
	case rec.Kind == replica.Folder:
		// We removed the folder for what was to come. That nobody may take for a
		// removal by people, the version stays.
		rec.Content = replica.Content{Version: rec.Version, Name: rec.Name, Changed: rec.Changed, By: rec.By}
		rec.Seen = replica.Seen{}
	}
	return e.takeBack(ctx, r, rec, false)
}

// takeBack forgets what was pending. kept is true when what stood there is in
// the attic already.
func (e *Engine) takeBack(ctx context.Context, r *Replica, rec replica.Record, kept bool) error {
	p := rec.Pending
	c := replica.Change{Replica: r.ID}
	name, err := e.spelled(ctx, r, rec.Key)
	if err != nil {
		return err
	}
	if c.Kept, err = e.discard(ctx, r, name, &rec); err != nil {
		return err
	}
	switch {
	case kept:
		c.Kept = append(c.Kept, replica.Kept{Path: name, Attic: p.Attic, Why: replica.Replaced, Size: rec.Seen.Size})
	case r.Tree.Capabilities().WholePuts && p.Attic != "": // the file itself is at its path still
		if err := r.Tree.Remove(ctx, p.Attic); err != nil && !absent(err) {
			return err
		}
	}
	rec.Pending = nil
	c.Records = []replica.Record{rec}
	return e.save(ctx, c)
}

// discard removes what waits in the intake and is no longer needed: what was to
// come, or what was replaced by it. What is neither was written by somebody in
// the last moment before it was replaced, and goes to the attic.
func (e *Engine) discard(ctx context.Context, r *Replica, name string, rec *replica.Record) ([]replica.Kept, error) {
	p := rec.Pending
	if p.Staged == "" {
		return nil, nil
	}
	entry, err := r.Tree.Stat(ctx, p.Staged)
	if absent(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if entry.Kind == tree.Folder { // copies alone are in it, made there by ourselves
		return nil, e.endpoint(r).DropFolder(ctx, p.Staged)
	}
	old := asKept(rec, entry)
	if !old && entry.Size == p.Content.Size {
		d, _, err := digest(ctx, r.Tree, p.Staged)
		if err != nil {
			return nil, err
		}
		old = d == p.Content.Digest
	}
	if old {
		return nil, r.Tree.Remove(ctx, p.Staged)
	}
	attic, err := e.inAttic(ctx, r, name)
	if err != nil {
		return nil, err
	}
	return []replica.Kept{{Path: name, Attic: attic, Why: replica.Lost, Size: entry.Size}}, r.Tree.Rename(ctx, p.Staged, attic, false)
}
