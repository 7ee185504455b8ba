package worker

import (
	"context"
	"time"

	"bridgespan/core/replica"
	"bridgespan/service/replicas/sets"
)

// Attics are checked for items past their time or beyond the quota: every minute while transfers add
// to them, every 15 minutes otherwise, and at once after a change of settings.
const (
	tidyEvery   = time.Minute
	tidyResting = 15 * time.Minute
)

// tidyAttics removes expired items from attics until ctx ends.
func (r *round) tidyAttics(ctx context.Context) {
	for ctx.Err() == nil {
		r.filling.Store(false)
		for _, p := range r.places {
			p.tidyAttic(ctx)
		}
		r.restTidy(ctx)
	}
}

// restTidy waits until the next check of attics is due, or ctx ends.
func (r *round) restTidy(ctx context.Context) {
	tick := time.NewTicker(tidyEvery)
	defer tick.Stop()
	for began := time.Now(); ; {
		select {
		case <-ctx.Done():
			return
		case <-r.untidy:
			return
		case <-tick.C:
			if r.filling.Load() || time.Since(began) >= tidyResting {
				return
			}
		}
	}
}

func (p *replicaWorker) tidyAttic(ctx context.Context) {
	p.mu.Lock()
	days := p.set.AtticDays
	p.mu.Unlock()
	quota := p.snapshot().AtticQuota
	for {
		old, err := p.DB.ExpiredAttic(ctx, replica.ID(p.ID), sets.Now().AddDate(0, 0, -days), 500)
		if err == nil && len(old) == 0 && quota > 0 {
			old, err = p.DB.AtticBeyond(ctx, replica.ID(p.ID), quota)
		}
		if err != nil || len(old) == 0 {
			return
		}
		for _, item := range old {
			if err := sets.ThrowAway(ctx, p.tree, item); err != nil {
				p.trouble(troubleAt(p.Name, item.Attic, err))
				return
			}
			if err := p.DB.ForgetAttic(ctx, item.ID); err != nil {
				return
			}
		}
	}
}
