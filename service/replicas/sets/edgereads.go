package sets

import (
	"context"
	"time"

	"bridgespan/core/replica"
	"bridgespan/model"
	"bridgespan/mover/edge"
	"bridgespan/records"
)

// CarriedTo is what the lane from the bucket has brought to an edge.
func CarriedTo(set *model.ReplicaSet, r *model.Replica) int64 {
	for _, l := range set.Lanes {
		if l.FromID == set.Replicas[0].ID && l.ToID == r.ID {
			return l.Carried.Bytes
		}
	}
	return 0
}

// CountReads stores what an edge has read from its bucket since that was last stored, and returns what its mover reports. What a mover
// reads between the last time and its own end is not counted.
func (s *Base) CountReads(ctx context.Context, set *model.ReplicaSet, r *model.Replica) (status edge.Status, err error) {
	if r.Edge.HasStubs() {
		if status, err = s.Estate.LookAtEdge(ctx, r.Target()); err != nil {
			return status, err
		}
	}
	return status, s.DB.Change(ctx, func(tx *records.Tx) error {
		return tx.CountReads(ctx, replica.ID(r.ID), time.Now().UTC(), records.EdgeCounters{Carried: CarriedTo(set, r), Fetched: status.Counts.FetchedBytes})
	})
}
