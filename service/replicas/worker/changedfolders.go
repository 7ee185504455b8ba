package worker

import (
	"context"
	"slices"
	"sync"

	"bridgespan/core/replica"
	"bridgespan/service/replicas/sets"
)

// mostChanged bounds the changed folders that wait for a partial scan.
const mostChanged = 1000

// changedFolders are folders in which event notifications reported changes.
type changedFolders struct {
	bell chan struct{} // rung when there are some

	mu   sync.Mutex
	list []string
}

// add adds folders. It returns false when there are too many: then all of the replica is to be scanned.
func (t *changedFolders) add(folders []string) bool {
	if len(folders) == 0 {
		return true
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.list = append(t.list, folders...); len(t.list) > mostChanged {
		t.list = nil
		return false
	}
	sets.Ring(t.bell)
	return true
}

func (t *changedFolders) take() []string {
	t.mu.Lock()
	defer t.mu.Unlock()
	list := t.list
	t.list = nil
	return list
}

// changedNow takes the changed folders. A folder that is unknown or missing is replaced by the nearest one above it that is neither: a
// partial scan of that finds new and removed folders.
func (p *replicaWorker) changedNow(ctx context.Context) (known []string) {
	for _, f := range p.notified.take() {
		known = append(known, p.round.engine.Nearest(ctx, replica.ID(p.ID), f))
	}
	slices.Sort(known)
	return slices.Compact(known)
}
