package replication

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"bridgespan/core/chunk"
	"bridgespan/core/replica"
)

// partialFor is how long what has come of a file waits for the rest of it.
const partialFor = 30 * 24 * time.Hour

// partials are the beginnings of files that wait in intakes, by the replicas and the
// paths that they are for, as they are kept in the records. The zero value is ready.
type partials struct {
	mu  sync.Mutex
	all map[replica.ID]map[string]chunk.Partial
}

// withPartials does something with what is kept of a replica, which is read once.
func (e *Engine) withPartials(ctx context.Context, r *Replica, do func(known map[string]chunk.Partial)) error {
	p := &e.partials
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.all[r.ID] == nil {
		p.mu.Unlock()
		kept, err := e.Store.Partials(ctx, r.ID)
		p.mu.Lock()
		if err != nil {
			return &storeError{err}
		}
		p.learn(r.ID, kept)
	}
	do(p.all[r.ID])
	return nil
}

// learn takes over what is kept, unless somebody was quicker.
func (p *partials) learn(id replica.ID, kept []chunk.Partial) {
	if p.all[id] != nil {
		return
	}
	if p.all == nil {
		p.all = map[replica.ID]map[string]chunk.Partial{}
	}
	p.all[id] = map[string]chunk.Partial{}
	for _, one := range kept {
		p.all[id][one.Key] = one
	}
}

// partial is what has come of a file; of none, the zero value.
func (e *Engine) partial(ctx context.Context, r *Replica, key string) (p chunk.Partial, err error) {
	err = e.withPartials(ctx, r, func(known map[string]chunk.Partial) { p = known[key] })
	return p, err
}

// keepPartial keeps how much of a file has come, which is lasting by now.
func (e *Engine) keepPartial(ctx context.Context, r *Replica, p chunk.Partial) error {
	if err := e.Store.KeepPartial(ctx, r.ID, p); err != nil {
		return &storeError{err}
	}
	return e.withPartials(ctx, r, func(known map[string]chunk.Partial) { known[p.Key] = p })
}

// dropPartial discards what has come of a file, if anything: it came whole, or is
// not to come any more.
func (e *Engine) dropPartial(ctx context.Context, r *Replica, key string) error {
	p, err := e.partial(ctx, r, key)
	if err != nil || p.Staged == "" {
		return err
	}
	if err := e.drop(ctx, r, p.Staged); err != nil {
		return err
	}
	return e.forgetPartial(ctx, r, key)
}

func (e *Engine) forgetPartial(ctx context.Context, r *Replica, key string) error {
	if err := e.Store.ForgetPartial(ctx, r.ID, key); err != nil {
		return &storeError{err}
	}
	return e.withPartials(ctx, r, func(known map[string]chunk.Partial) { delete(known, key) })
}

// awaited are the names in a replica's intake of what goes on one day. What has waited
// too long is forgotten.
func (e *Engine) awaited(ctx context.Context, r *Replica) (names []string, err error) {
	var all []chunk.Partial
	if err := e.withPartials(ctx, r, func(known map[string]chunk.Partial) { all = slices.Collect(maps.Values(known)) }); err != nil {
		return nil, err
	}
	for _, p := range all {
		if e.Now().Sub(p.Kept) < partialFor {
			names = append(names, p.Staged)
		} else if err := e.forgetPartial(ctx, r, p.Key); err != nil {
			return nil, err
		}
	}
	return names, nil
}

// grows reports whether files grow at a replica, and one of so many bytes is worth it.
func (e *Engine) grows(r *Replica, size int64) bool {
	return r.Tree.Capabilities().Grows && size >= max(e.leastSize(growFrom), 1)
}
