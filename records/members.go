package records

import (
	"context"
	"slices"

	"bridgespan/model"
)

// StoreMembers makes the replicas of a set those that are given: those without a
// number are new, and are given one; those of before that are not among them are
// removed, with all that is known of them.
func (tx *Tx) StoreMembers(ctx context.Context, set *model.ReplicaSet, before []model.Replica) error {
	for _, r := range before {
		if slices.ContainsFunc(set.Replicas, func(other model.Replica) bool { return other.ID == r.ID }) {
			continue
		}
		if _, _, err := tx.exec(ctx, `DELETE FROM replicas WHERE id = ?`, r.ID); err != nil {
			return err
		}
		if err := tx.forgetReplica(ctx, r.ID); err != nil {
			return err
		}
	}
	for i := range set.Replicas {
		r := &set.Replicas[i]
		if r.ID == 0 {
			if err := tx.addReplica(ctx, set.ID, i, r); err != nil {
				return err
			}
			continue
		}
		if _, _, err := tx.exec(ctx, `UPDATE replicas SET place = ?, seed = ?, intake_quota = ?, attic_quota = ? WHERE id = ?`, i, r.Seed, r.IntakeQuota, r.AtticQuota, r.ID); err != nil {
			return err
		}
	}
	return nil
}

// forgetReplica removes what is known of what a replica holds.
func (tx *Tx) forgetReplica(ctx context.Context, id int64) error {
	for _, statement := range []string{`DELETE FROM replica_records WHERE replica_id = ?`, `DELETE FROM replica_packs WHERE replica_id = ?`, `DELETE FROM replica_begun WHERE replica_id = ?`, `DELETE FROM replica_attic WHERE replica_id = ?`, `DELETE FROM replica_partials WHERE replica_id = ?`,
		`DELETE FROM replica_backlog WHERE from_id = ?`, `DELETE FROM replica_backlog WHERE to_id = ?`} {
		if _, _, err := tx.exec(ctx, statement, id); err != nil {
			return err
		}
	}
	return nil
}
