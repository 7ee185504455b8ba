package replication

import (
	"context"
	"io"
	"time"

	"github.com/zeebo/blake3"

	"bridgespan/core/chunk"
	"bridgespan/core/replica"
	"bridgespan/mover/transfer"
	"bridgespan/tree"
)

// endpoint is a replica as the one end of transfers.
func (e *Engine) endpoint(r *Replica) *transfer.Endpoint {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.endpoints == nil {
		e.endpoints = map[replica.ID]*transfer.Endpoint{}
	}
	if e.endpoints[r.ID] == nil {
		e.endpoints[r.ID] = &transfer.Endpoint{
			Tree: r.Tree, Settings: e.Transfers, Journal: journal{e, r.ID}, Quota: r.Intake, Now: e.Now, Unique: e.Unique,
		}
	}
	return e.endpoints[r.ID]
}

// journal keeps in the store what transfers to a replica have learned.
type journal struct {
	engine  *Engine
	replica replica.ID
}

func (j journal) Chunks(ctx context.Context, d chunk.Digest) (chunk.List, error) {
	l, err := j.engine.Store.Chunks(ctx, d)
	return l, ofStore(err)
}

func (j journal) KeepChunks(ctx context.Context, l chunk.List) error {
	return ofStore(j.engine.Store.KeepChunks(ctx, l))
}

func (j journal) Partials(ctx context.Context) ([]chunk.Partial, error) {
	all, err := j.engine.Store.Partials(ctx, j.replica)
	return all, ofStore(err)
}

func (j journal) KeepPartial(ctx context.Context, p chunk.Partial) error {
	return ofStore(j.engine.Store.KeepPartial(ctx, j.replica, p))
}

func (j journal) ForgetPartial(ctx context.Context, key string) error {
	return ofStore(j.engine.Store.ForgetPartial(ctx, j.replica, key))
}

func ofStore(err error) error {
	if err == nil {
		return nil
	}
	return &storeError{err}
}

// Intake tells how many bytes are on their way in to a replica that has a quota,
// and since when something has waited for room there; the zero time when nothing does.
func (e *Engine) Intake(id replica.ID) (used int64, full time.Time) {
	return e.endpoint(e.replica(id)).Intake()
}

// sweep removes from a replica's intake what another engine left there, but what
// is still to be settled.
func (e *Engine) sweep(ctx context.Context, r *Replica) error {
	wanted := func(ctx context.Context) (names []string, err error) {
		unfinished, err := e.Store.Unfinished(ctx, r.ID)
		for _, rec := range unfinished {
			names = append(names, rec.Pending.Staged)
		}
		return names, err
	}
	return e.endpoint(r).Sweep(ctx, wanted, func(name string, err error) { e.trouble(r, name, err) })
}

// digest reads a file and hashes it; of a stub, its mark tells the hash, or none when nobody has read it. The entry is the file as it was opened; it
// returns errMoved when it is another one afterwards.
func digest(ctx context.Context, t tree.Tree, name string) (chunk.Digest, tree.Entry, error) {
	return digestOrMark(ctx, t, name)
}

// emptyDigest is that of every file without content.
var emptyDigest = chunk.Digest(blake3.Sum256(nil))

// paced passes content on as fast as the lane may carry.
func (c *carry) paced(ctx context.Context, content io.Reader) io.Reader {
	return tree.Paced(ctx, content, c.cross)
}

// cross waits until so many bytes may cross the lane.
func (c *carry) cross(ctx context.Context, bytes int) error {
	if c.Pace != nil {
		if err := c.Pace(ctx, c.lane, bytes); err != nil {
			return err
		}
	}
	c.progress.cross(c.Now(), bytes)
	return nil
}
