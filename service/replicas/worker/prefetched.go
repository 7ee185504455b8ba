package worker

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"bridgespan/core/offload"
	"bridgespan/core/replica"
	"bridgespan/service/replicas/sets"
)

// mostPrefetched bounds the prefetched files whose use is tracked, of one edge. Later ones are prefetched without being counted.
const mostPrefetched = 100_000

// prefetched tracks which prefetched files of an edge are used. The zero value is ready.
type prefetched struct {
	mu     sync.Mutex
	loaded bool
	unused map[string]*offload.Prefetched // by path
	dirty  map[string]offload.Prefetched  // not stored yet
}

// add tracks a file that was transferred.
func (p *prefetched) add(path string, size int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.unused) < mostPrefetched {
		p.track(&offload.Prefetched{Path: path, Bytes: size, At: sets.Now()})
		p.dirty[path] = *p.unused[path]
	}
}

func (p *prefetched) track(f *offload.Prefetched) {
	if p.unused == nil {
		p.unused, p.dirty = map[string]*offload.Prefetched{}, map[string]offload.Prefetched{}
	}
	p.unused[f.Path] = f
}

// prefetchStore stores prefetched files, as [records.DB] does.
type prefetchStore interface {
	Prefetched(ctx context.Context, edge replica.ID, limit int) ([]offload.Prefetched, error)
	StorePrefetched(ctx context.Context, edge replica.ID, list []offload.Prefetched, before time.Time) error
}

// look updates the files with a walk over all files of the edge, and stores the changes. What failed to be stored is stored the next
// time.
func (p *prefetched) look(ctx context.Context, store prefetchStore, edge replica.ID, walk func(seen func(offload.File)) error) error {
	if err := p.load(ctx, store, edge); err != nil {
		return err
	}
	if err := walk(p.seen); err != nil {
		return err
	}
	old := time.Now().Add(-offload.PrefetchKept)
	changed := p.takeChanged(old)
	if len(changed) == 0 {
		return nil
	}
	err := store.StorePrefetched(ctx, edge, slices.Collect(maps.Values(changed)), old)
	if err != nil {
		p.putBack(changed)
	}
	return err
}

// load reads the files of earlier processes once.
func (p *prefetched) load(ctx context.Context, store prefetchStore, edge replica.ID) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.loaded {
		return nil
	}
	list, err := store.Prefetched(ctx, edge, mostPrefetched)
	for i := range list {
		if p.unused[list[i].Path] == nil {
			p.track(&list[i])
		}
	}
	p.loaded = err == nil
	return err
}

// seen updates the use of a file.
func (p *prefetched) seen(f offload.File) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if one := p.unused[f.Path]; one != nil && one.Look(f) {
		p.dirty[f.Path] = *one
	}
}

// takeChanged returns the changes to be stored. It stops tracking files that were used, and those of before a time.
func (p *prefetched) takeChanged(old time.Time) map[string]offload.Prefetched {
	p.mu.Lock()
	defer p.mu.Unlock()
	maps.DeleteFunc(p.unused, func(_ string, f *offload.Prefetched) bool { return !f.Used.IsZero() || f.At.Before(old) })
	changed := p.dirty
	p.dirty = map[string]offload.Prefetched{}
	return changed
}

func (p *prefetched) putBack(changed map[string]offload.Prefetched) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for path, f := range changed {
		if _, newer := p.dirty[path]; !newer {
			p.dirty[path] = f
		}
	}
}
