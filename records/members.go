package records

import (
	"context"
	"database/sql"
	"path"
	"slices"
	"strings"

	"bridgespan/core/replica"
	"bridgespan/model"
	"bridgespan/records/pack"
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

// forgetReplica notes that a replica is gone: what is known of what it held is removed by
// [DB.Prune], since there may be millions of rows.
func (tx *Tx) forgetReplica(ctx context.Context, id int64) error {
	_, _, err := tx.exec(ctx, `INSERT IGNORE INTO forgotten_replicas (replica_id) VALUES (?)`, id)
	return err
}

// pruneReplicas removes what is known of replicas that are gone, and returns how many were.
func (db *DB) pruneReplicas(ctx context.Context) (all int64, err error) {
	rows, err := db.run.QueryContext(ctx, `SELECT replica_id FROM forgotten_replicas`)
	ids, err := collect(rows, err, func(s scanner) (id int64, err error) { return id, s.Scan(&id) })
	for _, id := range ids {
		for _, statement := range []string{`DELETE FROM replica_records WHERE replica_id = ?`, `DELETE FROM replica_packs WHERE replica_id = ?`, `DELETE FROM replica_begun WHERE replica_id = ?`, `DELETE FROM replica_attic WHERE replica_id = ?`, `DELETE FROM replica_partials WHERE replica_id = ?`,
			`DELETE FROM replica_backlog WHERE from_id = ?`, `DELETE FROM replica_backlog WHERE to_id = ?`} {
			if _, err := db.prune(ctx, statement, id); err != nil {
				return all, err
			}
		}
		if _, _, err := db.exec(ctx, `DELETE FROM forgotten_replicas WHERE replica_id = ?`, id); err != nil {
			return all, err
		}
		all++
	}
	return all, err
}

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

// Waiting lists what waits in a lane's backlog, in the order in which it is looked at.
// Paths are spelled as the sender has them.
func (q Queries) Waiting(ctx context.Context, lane replica.Lane, limit int) ([]model.WaitingPath, error) {
	var keys []string
	rows, err := q.run.QueryContext(ctx, `SELECT path_key, whole, queued, failed, later FROM replica_backlog WHERE from_id = ? AND to_id = ? ORDER BY seq LIMIT ?`, lane.From, lane.To, limit)
	list, err := collect(rows, err, func(s scanner) (w model.WaitingPath, err error) {
		var key []byte
		var later sql.NullTime
		if err = s.Scan(&key, &w.Within, &w.Since, &w.Tried, &later); err == nil {
			keys = append(keys, string(key))
			w.NextTry = timeIn(later)
		}
		return w, err
	})
	if err != nil {
		return nil, err
	}
	known, err := q.knownOf(ctx, lane.From, keys)
	if err != nil {
		return nil, err
	}
	partials, err := q.partials(ctx, lane.To)
	if err != nil {
		return nil, err
	}
	arrived := map[string]int64{}
	for _, p := range partials {
		arrived[p.Key] = p.Bytes
	}
	for i, key := range keys {
		list[i].Path = spelledOf(known, key)
		switch rec := known[key]; rec.Kind {
		case replica.None:
			list[i].Kind = model.WaitingGone
		case replica.Folder:
			list[i].Kind = model.WaitingFolder
		default:
			list[i].Kind, list[i].Bytes, list[i].Arrived = model.WaitingFile, rec.Size, min(arrived[key], rec.Size)
		}
	}
	return list, nil
}

// knownOf are the records of paths, and of the folders that they are in.
func (q Queries) knownOf(ctx context.Context, r replica.ID, keys []string) (map[string]replica.Record, error) {
	wanted := map[string]bool{}
	for _, key := range keys {
		for ; key != "." && !wanted[key]; key = path.Dir(key) {
			wanted[key] = true
		}
	}
	all := make([]string, 0, len(wanted))
	for key := range wanted {
		all = append(all, key)
	}
	records, err := q.replicaRecords(ctx, r, all, &descriptors{})
	return byKey(records), err
}

// spelledOf is how a path is spelled, as far as that is known.
func spelledOf(known map[string]replica.Record, key string) string {
	var names []string
	for ; key != "."; key = path.Dir(key) {
		name := known[key].Name
		if name == "" {
			name = path.Base(key)
		}
		names = append([]string{name}, names...)
	}
	if len(names) == 0 {
		return "."
	}
	return strings.Join(names, "/")
}
