package records

import (
	"context"
	"database/sql"
	"errors"
	"slices"

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
		if _, _, err := tx.exec(ctx, `UPDATE replicas SET place = ?, seed = ?, intake_quota = ?, attic_quota = ?, sweep_min = ?, edge = ?, removals_decision = ? WHERE id = ?`, i, r.Seed, r.IntakeQuota, r.AtticQuota, r.SweepMin, inJSON(&r.Edge), r.Decision, r.ID); err != nil {
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

// QueueAll puts all that a sender has into the backlog of a lane that is new, and what its
// receiver held before it belonged to the set: that gives way. There may be millions of paths,
// so it does that in many small transactions; once it is broken off it begins anew, and what
// was queued already stays. It does nothing for a lane that is not new, or gone.
func (db *DB) QueueAll(ctx context.Context, l model.Lane) error {
	lane := replica.Lane{From: replica.ID(l.FromID), To: replica.ID(l.ToID)}
	all := func(string, replica.Kind) bool { return true }
	prior := func(version string, kind replica.Kind) bool { return kind != replica.None && version == "" }
	for _, step := range []struct {
		of    replica.ID
		which func(version string, kind replica.Kind) bool
	}{{lane.From, all}, {lane.To, prior}} {
		if err := db.queueRows(ctx, lane, step.of, step.which); err != nil {
			return goneIsFine(err)
		}
		if err := db.queuePacks(ctx, lane, step.of, step.which); err != nil {
			return goneIsFine(err)
		}
	}
	return db.Change(ctx, func(tx *Tx) error {
		_, _, err := tx.exec(ctx, `UPDATE replica_lanes SET unqueued = FALSE WHERE from_id = ? AND to_id = ?`, lane.From, lane.To)
		return err
	})
}

// errNotNew is of a lane that was removed meanwhile, or has its backlog.
var errNotNew = errors.New("the lane is not new")

func goneIsFine(err error) error {
	if errors.Is(err, errNotNew) {
		return nil
	}
	return err
}

// queueRows puts paths of a replica into a backlog whose records are rows.
func (db *DB) queueRows(ctx context.Context, lane replica.Lane, of replica.ID, which func(version string, kind replica.Kind) bool) error {
	for at := (recordPlace{}); ; {
		page, err := db.recordsAfter(ctx, of, at)
		if err != nil {
			return err
		}
		var keys []string
		for _, r := range page {
			if which(r.version, r.kind) {
				keys = append(keys, r.key)
			}
		}
		if err := db.queue(ctx, lane, keys); err != nil {
			return err
		}
		if len(page) < bulkRows {
			return nil
		}
		at = page[len(page)-1].recordPlace
	}
}

// queuePacks puts paths of a replica into a backlog whose records are in packs.
func (db *DB) queuePacks(ctx context.Context, lane replica.Lane, of replica.ID, which func(version string, kind replica.Kind) bool) error {
	return db.eachPack(ctx, of, func(packs []packRow) error {
		var keys []string
		for i := range packs {
			p := &packs[i]
			for k := range p.Entries {
				if e := &p.Entries[k]; which(p.Versions[e.Version], e.Kind) {
					keys = append(keys, p.key(e))
				}
			}
		}
		for part := range slices.Chunk(keys, bulkRows) {
			if err := db.queue(ctx, lane, part); err != nil {
				return err
			}
		}
		return nil
	})
}

// queue puts paths into the backlog of a lane that is new.
func (db *DB) queue(ctx context.Context, lane replica.Lane, keys []string) error {
	if len(keys) == 0 {
		return nil
	}
	return db.Change(ctx, func(tx *Tx) error {
		var unqueued bool
		err := tx.run.QueryRowContext(ctx, `SELECT unqueued FROM replica_lanes WHERE from_id = ? AND to_id = ? LOCK IN SHARE MODE`, lane.From, lane.To).Scan(&unqueued)
		if errors.Is(err, sql.ErrNoRows) || err == nil && !unqueued {
			return errNotNew
		}
		if err != nil {
			return err
		}
		seq, err := tx.ticketNumber(ctx)
		if err != nil {
			return err
		}
		var rows bulk
		for _, key := range keys {
			rows.add(backlogRow(lane, key, seq, 0)...)
		}
		return rows.updating(ctx, tx, backlogColumns, backlogAgain)
	})
}

// recordPlace is where a row stands among the records of a replica.
type recordPlace struct{ folder, name []byte }

// recordRow is as much of a record as tells whether it is queued.
type recordRow struct {
	recordPlace
	key     string
	kind    replica.Kind
	version string
}

// recordsAfter lists the next bulkRows rows of the records of a replica.
func (q Queries) recordsAfter(ctx context.Context, of replica.ID, at recordPlace) ([]recordRow, error) {
	list := func(which string, args ...any) ([]recordRow, error) {
		rows, err := q.run.QueryContext(ctx, `SELECT folder, name_key, path_key, kind, version FROM replica_records WHERE replica_id = ? AND `+which+` ORDER BY folder, name_key LIMIT ?`, append([]any{of}, args...)...)
		return collect(rows, err, func(s scanner) (r recordRow, err error) {
			return r, s.Scan(&r.folder, &r.name, &r.key, &r.kind, &r.version)
		})
	}
	if at.folder == nil {
		return list(`TRUE`, bulkRows)
	}
	page, err := list(`folder = ? AND name_key > ?`, at.folder, at.name, bulkRows)
	if err != nil || len(page) == bulkRows {
		return page, err
	}
	more, err := list(`folder > ?`, at.folder, bulkRows-len(page))
	return append(page, more...), err
}
