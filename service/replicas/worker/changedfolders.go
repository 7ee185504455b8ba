package worker

import (
	"context"
	"slices"
	"sync"

	"bridgespan/core/replica"
	"bridgespan/service/replicas/sets"
)

// changedFolders are folders in which something changed, as somebody else than the replica itself has told.
type changedFolders struct {
	bell chan struct{} // rung when there are some

	mu   sync.Mutex
	list []string
}

func (t *changedFolders) add(folders []string) {
	if len(folders) == 0 {
		return
	}
	t.mu.Lock()
	t.list = append(t.list, folders...)
	t.mu.Unlock()
	sets.Ring(t.bell)
}

func (t *changedFolders) take() []string {
	t.mu.Lock()
	defer t.mu.Unlock()
	list := t.list
	t.list = nil
	return list
}

// changedNow takes the folders that were told: those that are known, and the nearest known ones of others. In those, what is new is found
// as a whole.
func (p *replicaWorker) changedNow(ctx context.Context) (known []string) {
	for _, f := range p.notified.take() {
		known = append(known, p.round.engine.Nearest(ctx, replica.ID(p.ID), f))
	}
	slices.Sort(known)
	return slices.Compact(known)
}
