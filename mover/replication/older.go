package replication

import (
	"context"
	"io"
	"time"

	"bridgespan/core/chunk"
	"bridgespan/core/replica"
	"bridgespan/guard"
	"bridgespan/tree"
)

// older is the file that a receiver has where a changed one is to be. That it is as it
// was is looked at when the new one takes its place.
type older interface {
	// sizes are those by which both are cut; size is how long the changed one is.
	sizes(size int64) chunk.Sizes
	list(ctx context.Context, sizes chunk.Sizes) (chunk.List, error)
	// proof returns an error when what was staged of its parts is not what it should be.
	proof(ctx context.Context, staged string, d chunk.Delta, list chunk.List) error
	Close() error
}

// older opens what the receiver has. Where it would have to come over the lane to be
// read, what it is made of must have been kept when it was brought; else older returns
// tree.ErrUnsupported.
func (m *move) older(ctx context.Context) (older, error) {
	r := m.carry.to
	if !r.Tree.Capabilities().Far {
		base, err := r.Tree.Open(ctx, m.here)
		if err != nil {
			return nil, err
		}
		if !asKept(&m.to, base.Entry()) {
			base.Close()
			return nil, m.changed(ctx, r, m.here, m.to)
		}
		return &atHand{m, base}, nil
	}
	if !m.to.Digest.Known() {
		return nil, tree.ErrUnsupported
	}
	made, err := m.Store.Chunks(ctx, m.to.Digest)
	switch {
	case err != nil:
		return nil, &storeError{err}
	case len(made.Chunks) == 0:
		return nil, tree.ErrUnsupported
	}
	return &faraway{m, made}, nil
}

// atHand is an older file that is read where it lies.
type atHand struct {
	m    *move
	base tree.Content
}

func (a *atHand) sizes(size int64) chunk.Sizes { return a.m.sizes(size) }

func (a *atHand) list(ctx context.Context, sizes chunk.Sizes) (chunk.List, error) {
	return tree.Chunks(ctx, a.base, sizes)
}

// proof reads what was staged: that costs little there.
func (a *atHand) proof(ctx context.Context, staged string, d chunk.Delta, _ chunk.List) error {
	made, _, err := digest(ctx, a.m.carry.to.Tree, staged)
	if err == nil && made != d.Digest {
		err = errMoved
	}
	return err
}

func (a *atHand) Close() error { return a.base.Close() }

// faraway is an older file of which we have kept what it is made of.
type faraway struct {
	m    *move
	made chunk.List
}

func (f *faraway) sizes(int64) chunk.Sizes { return f.made.Sizes }

func (f *faraway) list(context.Context, chunk.Sizes) (chunk.List, error) { return f.made, nil }

// proofs is how many chunks are read of what was staged far away.
const proofs = 4

// proof reads a few of the chunks that the receiver itself has put in, from the first
// to the last. When one is another, somebody has changed the older file and not its time:
// proof returns tree.ErrUnsupported, so that all of it comes over the lane.
func (f *faraway) proof(ctx context.Context, staged string, d chunk.Delta, list chunk.List) error {
	content, err := f.m.carry.to.Tree.Open(ctx, staged)
	if err != nil {
		return err
	}
	defer content.Close()
	group, run := guard.WithContext(ctx)
	for _, p := range sampled(reused(d, list), proofs) {
		group.Go(func() error {
			data := make([]byte, p.Length)
			if err := f.m.carry.cross(run, len(data)); err != nil {
				return err
			}
			if _, err := io.ReadFull(io.NewSectionReader(content, p.at, int64(len(data))), data); err != nil {
				return err
			}
			if chunk.Of(data) != p.Fingerprint {
				return tree.ErrUnsupported
			}
			return nil
		})
	}
	return group.Wait()
}

func (f *faraway) Close() error { return nil }

// placed is a chunk at an offset.
type placed struct {
	chunk.Chunk
	at int64
}

// reused are the chunks of a list that come from the older file, in order.
func reused(d chunk.Delta, list chunk.List) (chunks []placed) {
	at, parts := int64(0), d.Parts
	for _, c := range list.Chunks {
		for len(parts) > 0 && parts[0].At+parts[0].Length <= at {
			parts = parts[1:]
		}
		if len(parts) > 0 && parts[0].From >= 0 {
			chunks = append(chunks, placed{c, at})
		}
		at += int64(c.Length)
	}
	return chunks
}

// sampled are at most n of all, evenly spread, the first and the last among them.
func sampled[T any](all []T, n int) []T {
	if len(all) <= n {
		return all
	}
	few := make([]T, n)
	for i := range few {
		few[i] = all[i*(len(all)-1)/(n-1)]
	}
	return few
}

// fartherBy is by how much longer a sender takes to answer than a receiver that is
// nearer to us.
const fartherBy = 5 * time.Millisecond

// tellingAnswers is how many answers tell how far away a replica is: one may be late for
// other reasons.
const tellingAnswers = 3

// worthCutting reports whether a file of the sender may be read whole to find out what
// of it has to cross: not where that reading is what crosses.
func (m *move) worthCutting(ctx context.Context) (bool, error) {
	if !m.carry.from.Tree.Capabilities().Far {
		return true, nil
	}
	for {
		there, err := m.away(ctx, m.carry.from, m.there)
		if err != nil {
			return false, err
		}
		here, err := m.away(ctx, m.carry.to, m.here)
		if near := there.least <= here.least+fartherBy; near || err != nil || there.n >= tellingAnswers {
			return near, err
		}
	}
}

// answers are how often a replica was asked, and how long it took to answer at least.
type answers struct {
	n     int
	least time.Duration
}

// away asks a replica for a name, to find out how far away it is.
func (e *Engine) away(ctx context.Context, r *Replica, name string) (answers, error) {
	began := time.Now()
	if _, err := r.Tree.Stat(ctx, name); err != nil && !absent(err) {
		return answers{}, err
	}
	took := time.Since(began)
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.answers == nil {
		e.answers = map[replica.ID]answers{}
	}
	a := e.answers[r.ID]
	if a.n == 0 || took < a.least {
		a.least = took
	}
	a.n++
	e.answers[r.ID] = a
	return a, nil
}
