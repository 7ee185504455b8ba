package replication

import (
	"cmp"
	"context"
	"errors"
	"fmt"

	"bridgespan/core/chunk"
	"bridgespan/core/replica"
	"bridgespan/mover/transfer"
	"bridgespan/tree"
)

// asStub reports whether the received file is placed as a stub: the replica decides that for new files and for stubs. A whole file
// stays whole. asStub sets m.over.
func (m *move) asStub(ctx context.Context) (stub bool, err error) {
	r, from := m.carry.to, m.carry.from
	if m.to.Kind == replica.File {
		if m.over, err = isStub(ctx, r, m.here); err != nil || !m.over {
			return false, err
		}
	}
	if r.AsStub == nil || m.from.Size == 0 || !r.Tree.Capabilities().Stubs || !from.Tree.Capabilities().WholePuts {
		return false, nil
	}
	return r.AsStub(m.here, m.from.Size, m.from.Modified), nil
}

// received reports a whole file that is new, or takes the place of a stub.
func (m *move) received(size int64) {
	if r := m.carry.to; r.Received != nil && (m.to.Kind != replica.File || m.over) {
		r.Received(m.here, size)
	}
}

func isStub(ctx context.Context, r *Replica, name string) (bool, error) {
	if !r.Tree.Capabilities().Stubs {
		return false, nil
	}
	e, err := r.Tree.Stat(ctx, name)
	if absent(err) {
		return false, nil
	}
	return e.Residency == tree.Stub, err
}

// stageStub makes a stub in the receiver's intake of the object that the sender has.
func (m *move) stageStub(ctx context.Context, next *replica.Record) (*transfer.Staged, error) {
	object, err := m.carry.from.Tree.Stat(ctx, m.there)
	if err != nil && !absent(err) {
		return nil, err
	}
	if err != nil || !asKept(&m.from, object) {
		return nil, m.changed(ctx, m.carry.from, m.there, m.from)
	}
	mark := tree.NewMark(m.there, object, m.from.Digest)
	staged, err := m.carry.receiver.StageStub(ctx, mark, m.from.Size, m.options(next))
	if err == nil {
		next.Digest = m.from.Digest
	}
	return staged, err
}

// dropStub removes what was moved to an attic when it is a stub: its content is not there. Only where nobody else comes is it
// certain that nobody has made a file of it meanwhile. One that people changed while nobody filled it is filled.
func dropStub(ctx context.Context, r *Replica, attic string) error {
	if stub, err := isStub(ctx, r, attic); err != nil || !stub {
		return err
	}
	if _, err := tree.MarkOf(ctx, r.Tree, attic); err == nil {
		return r.Tree.Remove(ctx, attic)
	}
	return tree.Fetch(ctx, r.Tree, attic)
}

// readStub tells the hash of a stub whose content nobody has read: that of the object which it is a stub of, when other is
// its record. Else it leaves it open: then it is taken for another content than any. A stub that people changed while nobody
// filled it is filled, and read the next time.
func (e *task) readStub(ctx context.Context, r *Replica, name string, rec, other *replica.Record) (d chunk.Digest, err error) {
	mark, err := tree.MarkOf(ctx, r.Tree, name)
	if err != nil {
		if err := tree.Fetch(ctx, r.Tree, name); err != nil {
			return d, err
		}
		return d, later("its content was fetched")
	}
	hub := e.carry.from
	if hub == r {
		hub = e.carry.to
	}
	if other.Kind != replica.File || other.Size != rec.Size || other.Seen.ID == 0 || other.Seen.ID != idOf(tree.Entry{Version: mark.Version}) {
		return d, nil
	}
	err = e.read(ctx, hub, other, rec)
	return other.Digest, err
}

// fill fetches the content of the sender's file, of which only a stub is there, since the receiver needs it. When the content
// is nowhere any more, the stub goes, too.
func (m *move) fill(ctx context.Context) error {
	r := m.carry.from
	err := tree.Fetch(ctx, r.Tree, m.there)
	if !errors.Is(err, tree.ErrNoContent) {
		return errors.Join(later("its content was fetched"), err)
	}
	m.trouble(r, m.there, fmt.Errorf("%w: it was replaced or removed there before this edge had it, and so the stub is removed", err))
	attic, err := m.inAttic(ctx, r, m.there)
	if err == nil {
		err = r.Tree.Rename(ctx, m.there, attic, false)
	}
	if err == nil {
		err = dropStub(ctx, r, attic)
	}
	if err != nil && !absent(err) {
		return err
	}
	if still, err := exists(ctx, r, attic); err != nil || still { // somebody has made a file of it in the last moment
		return errors.Join(err, r.Tree.Rename(ctx, attic, m.there, false))
	}
	return m.changed(ctx, r, m.there, m.from)
}

// Offload makes a stub of a file of an edge, and returns how many bytes that frees. Before, it makes sure that the hub
// has the content. Where that has to wait, such as for a change on its way,
// it returns an error of which [IsLater] is true; else those of [tree.Stubs].
func (e *Engine) Offload(ctx context.Context, edge, hub replica.ID, name string) (freed int64, err error) {
	r, from, key := e.replica(edge), e.replica(hub), keyOf(name)
	h := e.newHold()
	defer h.release()
	if !h.change(r, key) || !h.rely(from, key) {
		return 0, errBusy
	}
	rec, err := e.get(ctx, r, key)
	if err != nil {
		return 0, err
	}
	there, err := e.get(ctx, from, key)
	if err != nil {
		return 0, err
	}
	if rec.Pending != nil || there.Pending != nil || !sameVersion(&rec, &there) {
		return 0, later("the bucket has another version of it, or none")
	}
	entry, err := r.Tree.Stat(ctx, name)
	if err != nil || entry.Residency == tree.Stub {
		return 0, err
	}
	path, err := e.pathOf(ctx, from, &there, &rec)
	if err != nil {
		return 0, err
	}
	object, err := from.Tree.Stat(ctx, path)
	switch {
	case absent(err), err == nil && !asKept(&there, object), !asKept(&rec, entry):
		return 0, later("it was changed just now")
	case err != nil:
		return 0, err
	}
	after, err := tree.Offload(ctx, r.Tree, name, entry, tree.NewMark(path, object, cmp.Or(rec.Digest, there.Digest)))
	return max(entry.Allocated-after.Allocated, 0), err
}

// IsLater reports whether an error says that something has to wait for something else.
func IsLater(err error) bool { return errors.Is(err, errLater) }

// sameVersion reports whether two replicas have one version of a file, as far as it was read.
func sameVersion(a, b *replica.Record) bool {
	known := a.Digest.Known() && b.Digest.Known()
	return a.Kind == replica.File && b.Kind == replica.File && len(a.Version) > 0 && a.Version.Compare(b.Version) == replica.Equal &&
		a.Size == b.Size && (!known || a.Digest == b.Digest)
}

// digestOrMark is digest, but for a stub whose content nobody has read: that has none.
func digestOrMark(ctx context.Context, t tree.Tree, name string) (chunk.Digest, tree.Entry, error) {
	d, entry, err := transfer.Digest(ctx, t, name, nil)
	if !errors.Is(err, tree.ErrStub) {
		return d, entry, err
	}
	if _, bad := tree.MarkOf(ctx, t, name); bad != nil { // it was changed while nobody filled it
		if err := tree.Fetch(ctx, t, name); err != nil {
			return d, entry, err
		}
		return transfer.Digest(ctx, t, name, nil)
	}
	entry, err = t.Stat(ctx, name)
	return chunk.Digest{}, entry, err
}
