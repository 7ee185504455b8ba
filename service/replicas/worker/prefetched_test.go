package worker

import (
	"context"
	"errors"
	"testing"
	"time"

	"bridgespan/core/offload"
	"bridgespan/core/replica"
	"bridgespan/model"
)

// memoryPrefetches stores prefetched files in memory.
type memoryPrefetches struct {
	stored map[string]offload.Prefetched
	fail   error
}

func (m *memoryPrefetches) Prefetched(context.Context, replica.ID, int) (list []offload.Prefetched, err error) {
	for _, f := range m.stored {
		if f.Used.IsZero() {
			list = append(list, f)
		}
	}
	return list, m.fail
}

func (m *memoryPrefetches) StorePrefetched(_ context.Context, _ replica.ID, list []offload.Prefetched, before time.Time) error {
	if m.fail != nil {
		return m.fail
	}
	for _, f := range list {
		m.stored[f.Path] = f
	}
	return nil
}

// The first use of each prefetched file is stored, also after a failure and by the next process.
func TestPrefetchedFilesAreTracked(t *testing.T) {
	now := time.Now()
	store := &memoryPrefetches{stored: map[string]offload.Prefetched{"old.tif": {Path: "old.tif", Bytes: 1, At: now.AddDate(0, 0, -40)}}}
	scan := func(p *prefetched, files ...offload.File) error {
		return p.look(t.Context(), store, 1, func(seen func(offload.File)) error {
			for _, f := range files {
				seen(f)
			}
			return nil
		})
	}
	var p prefetched
	p.add("a.tif", 7)
	p.add("b.tif", 5)
	store.fail = errors.New("the database does not answer")
	if err := scan(&p); !errors.Is(err, store.fail) {
		t.Error(err)
	}
	store.fail = nil
	if err := scan(&p, offload.File{Path: "a.tif", Used: now}, offload.File{Path: "others.tif", Used: now}); err != nil {
		t.Fatal(err)
	}
	if a, b := store.stored["a.tif"], store.stored["b.tif"]; len(store.stored) != 3 || !a.Seen.Equal(now) || a.Bytes != 7 || !b.Seen.IsZero() || b.Bytes != 5 {
		t.Errorf("after the first scan: %+v", store.stored)
	}
	var next prefetched // of the next process
	if err := scan(&next, offload.File{Path: "a.tif", Used: now.Add(time.Hour)}, offload.File{Path: "b.tif", Stub: true, Used: now}); err != nil {
		t.Fatal(err)
	}
	if a, b := store.stored["a.tif"], store.stored["b.tif"]; !a.Used.Equal(now.Add(time.Hour)) || !b.Seen.IsZero() {
		t.Errorf("after a use: %+v", store.stored)
	}
	if len(next.unused) != 1 || next.unused["b.tif"] == nil {
		t.Errorf("tracked: %v", next.unused)
	}
	walkFails := errors.New("the walk failed")
	if err := next.look(t.Context(), store, 1, func(func(offload.File)) error { return walkFails }); !errors.Is(err, walkFails) {
		t.Error(err)
	}
}

func TestTrackedPrefetchesAreBounded(t *testing.T) {
	p := prefetched{unused: map[string]*offload.Prefetched{}}
	for len(p.unused) < mostPrefetched {
		p.track(&offload.Prefetched{Path: time.Duration(len(p.unused)).String()})
	}
	p.add("one more", 1)
	if len(p.unused) != mostPrefetched || len(p.dirty) != 0 {
		t.Errorf("%d are tracked, %d to be stored", len(p.unused), len(p.dirty))
	}
}

// What comes as a stub follows from the policy, the first fill and the free-space line.
func TestAsStub(t *testing.T) {
	all := &model.EdgePrefetch{Folders: []string{"live/"}}
	for what, c := range map[string]struct {
		replica model.Replica
		name    string
		size    int64
		want    bool
	}{
		"whole files":               {model.Replica{Filled: true, Edge: &model.EdgePolicy{Fill: model.FillWhole}}, "a.tif", 1 << 20, false},
		"stubs":                     {model.Replica{Filled: true, Edge: &model.EdgePolicy{Fill: model.FillStubs}}, "a.tif", 1 << 20, true},
		"a short file":              {model.Replica{Filled: true, Edge: &model.EdgePolicy{Fill: model.FillStubs}}, "a.tif", 100, false},
		"one that stays whole":      {model.Replica{Filled: true, Edge: &model.EdgePolicy{Fill: model.FillStubs, Never: []string{"*.db"}}}, "a.db", 1 << 20, false},
		"prefetched":                {model.Replica{Filled: true, Edge: &model.EdgePolicy{Fill: model.FillStubs, Prefetch: all}}, "live/a.tif", 1 << 20, false},
		"not prefetched":            {model.Replica{Filled: true, Edge: &model.EdgePolicy{Fill: model.FillStubs, Prefetch: all}}, "cold/a.tif", 1 << 20, true},
		"during the first fill":     {model.Replica{Edge: &model.EdgePolicy{Fill: model.FillStubs, Prefetch: all}}, "live/a.tif", 1 << 20, true},
		"below the free-space line": {model.Replica{Filled: true, Edge: &model.EdgePolicy{Fill: model.FillStubs, Prefetch: all}, EdgeFigures: &model.EdgeFigures{Free: 10 << 20, Line: 10 << 20}}, "live/a.tif", 1 << 20, true},
	} {
		p := &replicaWorker{Replica: c.replica}
		if got := p.asStub(c.name, c.size, time.Time{}); got != c.want {
			t.Errorf("%s: a stub is %v", what, got)
		}
		p.received(c.name, c.size)
		if tracked, want := len(p.prefetched.unused) == 1, what == "prefetched"; tracked != want {
			t.Errorf("%s: tracked is %v", what, tracked)
		}
	}
}
