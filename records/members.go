package records

import (
	"context"
	"database/sql"
	"errors"
	"path"
	"slices"
	"strings"

	"bridgespan/core/replica"
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

// pruneLanes removes what waited on lanes that are gone. A lane that is there anew is none of
// them: adding it waits for the step under way.
func (db *DB) pruneLanes(ctx context.Context) error {
	rows, err := db.run.QueryContext(ctx, `SELECT from_id, to_id FROM forgotten_lanes`)
	lanes, err := collect(rows, err, func(s scanner) (l replica.Lane, err error) { return l, s.Scan(&l.From, &l.To) })
	if err != nil {
		return err
	}
	for _, l := range lanes {
		for more := true; more; {
			if err := db.Change(ctx, func(tx *Tx) (err error) { more, err = tx.pruneLane(ctx, l); return err }); err != nil {
				return err
			}
		}
	}
	return nil
}

// pruneLane removes some of what waited on a lane that is gone, and reports whether there is more.
func (tx *Tx) pruneLane(ctx context.Context, l replica.Lane) (more bool, err error) {
	var gone bool
	if err := tx.run.QueryRowContext(ctx, `SELECT TRUE FROM forgotten_lanes WHERE from_id = ? AND to_id = ? FOR UPDATE`, l.From, l.To).Scan(&gone); err != nil {
		if errors.Is(err, sql.ErrNoRows) {
			err = nil
		}
		return false, err
	}
	n, _, err := tx.exec(ctx, `DELETE FROM replica_backlog WHERE from_id = ? AND to_id = ? LIMIT ?`, l.From, l.To, pruneRows)
	if err != nil || n == pruneRows {
		return err == nil, err
	}
	_, _, err = tx.exec(ctx, `DELETE FROM forgotten_lanes WHERE from_id = ? AND to_id = ?`, l.From, l.To)
	return false, err
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
