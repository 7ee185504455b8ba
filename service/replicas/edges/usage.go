package edges

import (
	"context"
	"time"

	"bridgespan/core/offload"
	"bridgespan/core/plan"
	"bridgespan/core/replica"
	"bridgespan/model"
	"bridgespan/service/replicas/sets"
)

// Usage adds up what a cloud set stores in its bucket and has read from it, with costs.
func (s *Edges) Usage(ctx context.Context, name string) (u model.CloudUsage, err error) {
	set, err := s.cloudSet(ctx, name)
	if err != nil {
		return u, err
	}
	hub := &set.Replicas[0]
	v, err := s.DB.Server(ctx, hub.Server)
	if err != nil {
		return u, err
	}
	var prices plan.Prices
	if v.Cloud != nil {
		prices = v.Cloud.Prices()
	}
	u = model.CloudUsage{Set: set.Name, Bucket: hub.Name, Since: set.Created, Currency: prices.Currency, Earlier: hub.Attic.Items, EarlierBytes: hub.Attic.Bytes, FullReads: 1, Edges: []model.EdgeUsage{}}
	if hub.Seed {
		u.FullReads = len(set.Replicas) - 1
	}
	err = s.DB.EachHeld(ctx, replica.ID(hub.ID), func(_ string, folder bool, size int64, _ time.Time) error {
		if !folder {
			u.Files, u.Bytes = u.Files+1, u.Bytes+size
		}
		return nil
	})
	if err != nil {
		return u, err
	}
	u.Stored = prices.StoredFor(u.Bytes + u.EarlierBytes)
	u.ReadAll = prices.OutFor(u.Bytes)
	for i := range set.Replicas[1:] {
		u.Edges = append(u.Edges, s.readBy(ctx, &set, &set.Replicas[i+1], prices))
	}
	return u, nil
}

// readBy adds up what an edge has read from its bucket.
func (s *Edges) readBy(ctx context.Context, set *model.ReplicaSet, r *model.Replica, prices plan.Prices) model.EdgeUsage {
	e := model.EdgeUsage{Replica: r.Name, Months: []model.MonthlyReads{}}
	status, err := s.CountReads(ctx, set, r)
	if err != nil {
		e.Problem = sets.Words(s.Explain(ctx, r.Server, err))
	}
	e.Carried, e.Fetched, e.FetchedBytes = sets.CarriedTo(set, r), status.Counts.Fetched, status.Counts.FetchedBytes
	e.Cost = prices.OutFor(e.Carried + e.FetchedBytes)
	if months, err := s.DB.MonthlyReads(ctx, replica.ID(r.ID), monthsShown); err != nil {
		e.Problem = sets.Words(err)
	} else if len(months) > 0 {
		e.Months = months
	}
	for i := range e.Months {
		e.Months[i].Cost = prices.OutFor(e.Months[i].Bytes)
	}
	now := time.Now()
	f, err := s.DB.PrefetchFigures(ctx, replica.ID(r.ID), now.Add(-offload.PrefetchKept))
	if err != nil {
		e.Problem = sets.Words(err)
	}
	e.Prefetched = prefetchUsage(set, r, f, prices, now)
	return e
}

// monthsShown is of how many months reads are shown.
const monthsShown = 12

// prefetchUsage is nil when nothing was prefetched.
func prefetchUsage(set *model.ReplicaSet, r *model.Replica, f offload.PrefetchFigures, prices plan.Prices, now time.Time) *model.PrefetchUsage {
	if f.Files == 0 {
		return nil
	}
	u := &model.PrefetchUsage{Files: f.Files, Bytes: f.Bytes, Used: f.Used, Cost: prices.OutFor(f.Bytes)}
	if f.Wasted(now) && r.Edge != nil && r.Edge.Prefetch != nil {
		u.Advice = "Few prefetched files were used. Name fewer folders, or turn prefetch off."
	}
	return u
}
