package records

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/zeebo/blake3"

	"bridgespan/core/offload"
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

// Prefetched lists the latest prefetched files of an edge that were not used yet, at most limit of them.
func (q Queries) Prefetched(ctx context.Context, r replica.ID, limit int) ([]offload.Prefetched, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT path, bytes, at, seen FROM edge_prefetches WHERE replica_id = ? AND used IS NULL ORDER BY at DESC LIMIT ?`, r, limit)
	return collect(rows, err, func(s scanner) (p offload.Prefetched, err error) {
		var seen sql.NullTime
		err = s.Scan(&p.Path, &p.Bytes, &p.At, &seen)
		p.Seen = seen.Time
		return p, err
	})
}

// StorePrefetched stores prefetched files of an edge, and removes those of before a time.
func (db *DB) StorePrefetched(ctx context.Context, r replica.ID, list []offload.Prefetched, before time.Time) error {
	return db.Change(ctx, func(tx *Tx) error {
		for part := range slices.Chunk(list, bulkRows) {
			var args []any
			for _, p := range part {
				hash := blake3.Sum256([]byte(p.Path))
				args = append(args, r, hash[:16], []byte(p.Path), p.Bytes, p.At.UTC(), nullTime(p.Seen), nullTime(p.Used))
			}
			rows := strings.Repeat(", (?, ?, ?, ?, ?, ?, ?)", len(part))[2:]
			if _, _, err := tx.exec(ctx, `REPLACE INTO edge_prefetches (replica_id, hash, path, bytes, at, seen, used) VALUES `+rows, args...); err != nil {
				return err
			}
		}
		_, _, err := tx.exec(ctx, `DELETE FROM edge_prefetches WHERE replica_id = ? AND at < ?`, r, before.UTC())
		return err
	})
}

func nullTime(t time.Time) sql.NullTime { return sql.NullTime{Time: t.UTC(), Valid: !t.IsZero()} }

// PrefetchFigures adds up the prefetched files of an edge since a time, of those that its scans have seen.
func (q Queries) PrefetchFigures(ctx context.Context, r replica.ID, since time.Time) (f offload.PrefetchFigures, err error) {
	var first sql.NullTime
	err = q.run.QueryRowContext(ctx, `SELECT COUNT(*), COALESCE(SUM(bytes), 0), COUNT(used), MIN(at) FROM edge_prefetches WHERE replica_id = ? AND seen IS NOT NULL AND at >= ?`, r, since.UTC()).Scan(&f.Files, &f.Bytes, &f.Used, &first)
	f.First = first.Time
	return f, unavailable(err)
}

// EdgeCounters count bytes that an edge has read from its bucket: by its lane since the set was created, and by its mover since that was
// started.
type EdgeCounters struct{ Carried, Fetched int64 }

// grown is by how much a counter has grown since a mark; one that is less than its mark began anew.
func grown(counter, mark int64) int64 {
	if counter < mark {
		return counter
	}
	return counter - mark
}

// CountReads adds to the month of a time what an edge has read since its counters were last stored.
func (tx *Tx) CountReads(ctx context.Context, r replica.ID, now time.Time, c EdgeCounters) error {
	var mark EdgeCounters
	err := tx.run.QueryRowContext(ctx, `SELECT carried, fetched FROM edge_read_marks WHERE replica_id = ? FOR UPDATE`, r).Scan(&mark.Carried, &mark.Fetched)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return unavailable(err)
	}
	read := grown(c.Carried, mark.Carried) + grown(c.Fetched, mark.Fetched)
	if read == 0 && c == mark {
		return nil
	}
	month := time.Date(now.Year(), now.Month(), 1, 0, 0, 0, 0, time.UTC)
	if _, _, err := tx.exec(ctx, `INSERT INTO edge_reads (replica_id, month, bytes) VALUES (?, ?, ?) ON DUPLICATE KEY UPDATE bytes = bytes + VALUES(bytes)`, r, month, read); err != nil {
		return err
	}
	_, _, err = tx.exec(ctx, `REPLACE INTO edge_read_marks (replica_id, carried, fetched) VALUES (?, ?, ?)`, r, c.Carried, c.Fetched)
	return err
}

// MonthlyReads lists what an edge has read from its bucket, by months, the newest first, at most so many.
func (q Queries) MonthlyReads(ctx context.Context, r replica.ID, most int) ([]model.MonthlyReads, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT month, bytes FROM edge_reads WHERE replica_id = ? ORDER BY month DESC LIMIT ?`, r, most)
	return collect(rows, err, func(s scanner) (m model.MonthlyReads, err error) {
		var month time.Time
		err = s.Scan(&month, &m.Bytes)
		m.Month = month.Format("2006-01")
		return m, err
	})
}
