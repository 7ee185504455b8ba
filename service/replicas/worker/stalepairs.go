package worker

import (
	"context"
	"time"

	"bridgespan/core/account"
	"bridgespan/model"
	"bridgespan/service/replicas/sets"
)

// How often it is looked whether an account map was changed, and whether the
// accounts of servers were: those of a far one take a while to be asked for.
const (
	mapEvery   = 5 * time.Second
	pairsEvery = time.Hour
)

// watchPairs notes which replicas have accounts paired otherwise than the set's
// account map does by now: somebody new has no pair, and is not known there.
func (r *round) watchPairs(ctx context.Context) {
	tick := time.NewTicker(mapEvery)
	defer tick.Stop()
	var seen int64
	var looked time.Time
	for {
		r.mu.Lock()
		set := r.set
		r.mu.Unlock()
		m, err := r.DB.AccountMap(ctx, set.AccountMap)
		if err == nil && (m.Version != seen || time.Since(looked) > pairsEvery) {
			other, err := r.OtherPairs(ctx, &set)
			if err == nil {
				r.notePairs(other)
				seen, looked = m.Version, time.Now()
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

func (r *round) notePairs(other map[string]map[account.SID]account.SID) {
	at := sets.Now()
	for _, p := range r.places {
		_, stale := other[p.Name]
		p.update(func(m *model.Replica) {
			switch {
			case !stale:
				m.AccountsStale = nil
			case m.AccountsStale == nil:
				m.AccountsStale = &at
			}
		})
	}
}
