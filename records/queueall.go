package records

import (
	"context"

	"bridgespan/core/replica"
	"bridgespan/model"
	"bridgespan/records/pack"
)

// QueueAll puts all that a sender has into the backlog of a lane, and what its
// receiver held before it belonged to the set: that gives way.
func (tx *Tx) QueueAll(ctx context.Context, l model.Lane) error {
	seq, err := tx.ticketNumber(ctx)
	if err != nil {
		return err
	}
	if _, _, err = tx.exec(ctx, `INSERT INTO replica_backlog (from_id, to_id, folder, name_key, path_key, seq)
		SELECT ?, ?, folder, name_key, path_key, ? FROM replica_records
		WHERE replica_id = ? OR replica_id = ? AND kind <> ? AND version = '' ON DUPLICATE KEY UPDATE `+backlogAgain, l.FromID, l.ToID, seq, l.FromID, l.ToID, replica.None); err != nil {
		return err
	}
	lane := replica.Lane{From: replica.ID(l.FromID), To: replica.ID(l.ToID)}
	if err := tx.queuePacks(ctx, lane, lane.From, seq, func(string, *pack.Entry) bool { return true }); err != nil {
		return err
	}
	return tx.queuePacks(ctx, lane, lane.To, seq, func(version string, e *pack.Entry) bool { return e.Kind != replica.None && version == "" })
}

// queuePacks puts paths that are in packs of a replica into a backlog.
func (tx *Tx) queuePacks(ctx context.Context, lane replica.Lane, r replica.ID, seq uint64, which func(version string, e *pack.Entry) bool) error {
	return tx.eachPack(ctx, r, func(packs []packRow) error {
		var rows bulk
		for i := range packs {
			p := &packs[i]
			for k := range p.Entries {
				if e := &p.Entries[k]; which(p.Versions[e.Version], e) {
					rows.add(backlogRow(lane, p.key(e), seq, 0)...)
				}
			}
		}
		return rows.updating(ctx, tx, backlogColumns, backlogAgain)
	})
}
