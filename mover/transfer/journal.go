package transfer

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"bridgespan/core/chunk"
)

// Journal keeps what transfers into one endpoint have learned. What was kept stays, whatever
// ends. Its methods may be called side by side; their errors end a transfer as they are.
type Journal interface {
	// Chunks returns what a content is made of, as far as that is kept; else a list without
	// chunks.
	Chunks(ctx context.Context, d chunk.Digest) (chunk.List, error)
	// KeepChunks keeps what a content is made of, for as long as there is room.
	KeepChunks(ctx context.Context, l chunk.List) error
	// Partials lists the interrupted transfers.
	Partials(ctx context.Context) ([]chunk.Partial, error)
	// KeepPartial keeps how much of a file has arrived, in the place of what was kept of it.
	KeepPartial(ctx context.Context, p chunk.Partial) error
	// ForgetPartial forgets the partial of a key, if there is one.
	ForgetPartial(ctx context.Context, key string) error
}

// PartialFor is how long the beginning of a file waits for its rest.
const PartialFor = 30 * 24 * time.Hour

// partials are the interrupted transfers by their keys, as the journal keeps them; nil until
// they are read.
type partials struct {
	mu  sync.Mutex
	all map[string]chunk.Partial
}

// withPartials calls do with what the journal keeps, which is read once.
func (e *Endpoint) withPartials(ctx context.Context, do func(all map[string]chunk.Partial)) error {
	p := &e.partials
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.all == nil {
		p.mu.Unlock()
		kept, err := e.readPartials(ctx)
		p.mu.Lock()
		if err != nil {
			return err
		}
		if p.all == nil { // else somebody was quicker, and may have changed something since
			p.all = map[string]chunk.Partial{}
			for _, one := range kept {
				p.all[one.Key] = one
			}
		}
	}
	do(p.all)
	return nil
}

func (e *Endpoint) readPartials(ctx context.Context) ([]chunk.Partial, error) {
	if e.Journal == nil {
		return nil, nil
	}
	return e.Journal.Partials(ctx)
}

// partial is what has arrived of a file; of none, the zero value.
func (e *Endpoint) partial(ctx context.Context, key string) (p chunk.Partial, err error) {
	if key == "" || e.Journal == nil {
		return p, nil
	}
	err = e.withPartials(ctx, func(all map[string]chunk.Partial) { p = all[key] })
	return p, err
}

// keepPartial keeps how much of a file has arrived, which is durable by now.
func (e *Endpoint) keepPartial(ctx context.Context, p chunk.Partial) error {
	if err := e.Journal.KeepPartial(ctx, p); err != nil {
		return err
	}
	return e.withPartials(ctx, func(all map[string]chunk.Partial) { all[p.Key] = p })
}

// Forget removes what has arrived of a file by an interrupted transfer, if anything: it
// arrived whole, or is not to be copied any more.
func (e *Endpoint) Forget(ctx context.Context, key string) error {
	p, err := e.partial(ctx, key)
	if err != nil || p.Staged == "" {
		return err
	}
	if err := e.Drop(ctx, p.Staged); err != nil {
		return err
	}
	return e.forgetPartial(ctx, key)
}

func (e *Endpoint) forgetPartial(ctx context.Context, key string) error {
	if err := e.Journal.ForgetPartial(ctx, key); err != nil {
		return err
	}
	return e.withPartials(ctx, func(all map[string]chunk.Partial) { delete(all, key) })
}

// awaited are the names in the intake of files of which the rest may still be copied. What
// has waited too long is forgotten.
func (e *Endpoint) awaited(ctx context.Context) (names []string, err error) {
	var all []chunk.Partial
	if err := e.withPartials(ctx, func(known map[string]chunk.Partial) { all = slices.Collect(maps.Values(known)) }); err != nil {
		return nil, err
	}
	for _, p := range all {
		if e.now().Sub(p.Kept) < PartialFor {
			names = append(names, p.Staged)
		} else if err := e.forgetPartial(ctx, p.Key); err != nil {
			return nil, err
		}
	}
	return names, nil
}

// grows reports whether a file of so many bytes is copied in pieces of which each is made
// durable.
func (e *Endpoint) grows(size int64) bool {
	return e.Journal != nil && e.Tree.Capabilities().Grows && size >= max(e.Settings.least(growFrom), 1)
}
