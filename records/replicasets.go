package records

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"path"
	"strings"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/core/replica"
	"bridgespan/model"
)

const setColumns = `SELECT t.id, t.name, t.note, t.layout, t.calendar, t.filter, t.permissions, COALESCE(m.name, ''), COALESCE(v.name, ''), t.attic_days, t.removal_limit, t.paused, t.created, t.retry_first, t.retry_most, t.retry_alert, COALESCE(t.plan_run, 0), t.version
	FROM replica_sets t LEFT JOIN account_maps m ON m.id = t.account_map_id LEFT JOIN servers v ON v.id = t.accounts_of`

func scanSet(s scanner) (set model.ReplicaSet, err error) {
	var rules []byte
	if err = s.Scan(&set.ID, &set.Name, &set.Note, &set.Layout, &set.Calendar, &rules, &set.Permissions, &set.AccountMap, &set.AccountsOf, &set.AtticDays, &set.RemovalLimit, &set.Paused, &set.Created, &set.Retry.FirstS, &set.Retry.MostS, &set.Retry.AlertAfter, &set.PlanRun, &set.Version); err != nil {
		return set, err
	}
	return set, json.Unmarshal(rules, &set.Filter)
}

// ReplicaSets lists replica sets by name, with their replicas and lanes.
func (q Queries) ReplicaSets(ctx context.Context, page Page) ([]model.ReplicaSet, error) {
	rows, err := q.run.QueryContext(ctx, setColumns+` WHERE t.name_key > ? ORDER BY t.name_key LIMIT ?`, page.After, page.Limit)
	sets, err := collect(rows, err, scanSet)
	if err == nil {
		err = q.members(ctx, sets)
	}
	return sets, err
}

// ReplicaSet finds a replica set by name, with its replicas and lanes.
func (q Queries) ReplicaSet(ctx context.Context, name string) (model.ReplicaSet, error) {
	return q.replicaSet(ctx, notFound("replica set", name, "list the replica sets with: bspan replica list"), `t.name_key = ?`, namespace.Key(name))
}

// NumberedSet finds a replica set by its number.
func (q Queries) NumberedSet(ctx context.Context, id int64) (model.ReplicaSet, error) {
	return q.replicaSet(ctx, fault.New(fault.NotFound, "list the replica sets with: bspan replica list", "replica set %d is gone", id), `t.id = ?`, id)
}

func (q Queries) replicaSet(ctx context.Context, missing error, which string, args ...any) (model.ReplicaSet, error) {
	set, err := one(q.run.QueryRowContext(ctx, setColumns+` WHERE `+which, args...), scanSet, missing)
	if err != nil {
		return set, err
	}
	sets := []model.ReplicaSet{set}
	err = q.members(ctx, sets)
	return sets[0], err
}

// SetsToTakeUp lists the numbers of the sets that nobody works on.
func (q Queries) SetsToTakeUp(ctx context.Context) ([]int64, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT id FROM replica_sets t WHERE NOT EXISTS (SELECT 1 FROM leases WHERE leases.name = CONCAT('replica set ', t.id) AND expires > UTC_TIMESTAMP(6)) ORDER BY id`)
	return collect(rows, err, func(s scanner) (id int64, err error) { return id, s.Scan(&id) })
}

// LeaseOfSet is the name of the lease under which a replica set is worked on.
func LeaseOfSet(id int64) string { return fmt.Sprintf("replica set %d", id) }

const replicaRows = `SELECT r.id, r.name, v.name, COALESCE(s.name, ''), r.share, r.sub, r.seed, r.intake_quota, r.attic_quota, r.sweep_min, r.edge, r.edge_figures, v.cloud IS NOT NULL, r.scanned, r.filled, r.entries, r.looked, r.look_ms,
	r.state, r.trouble, r.since, r.settings, r.picked_up, (SELECT COUNT(*) FROM replica_troubles t WHERE t.replica_id = r.id), r.attic_items, r.attic_conflicts, r.attic_bytes,
	r.attic_conflict_at, r.filled_at, r.intake_used, r.intake_full, r.accounts_stale, r.repairs, r.removals, r.removals_decision, r.set_id, r.notified, f.names, f.recovery_keys
	FROM replicas r JOIN servers v ON v.id = r.server_id LEFT JOIN sites s ON s.id = v.site_id
	LEFT JOIN sealed_folders f ON f.server_id = r.server_id AND f.bucket = r.share AND f.folder = r.sub`

// ofSet is a replica or a lane, with the number of its set.
type ofSet[T any] struct {
	set int64
	of  T
}

func scanReplica(s scanner) (row ofSet[model.Replica], err error) {
	r := &row.of
	var looked, since, picked, conflict, filled, full, stale, notified sql.NullTime
	var names sql.NullBool
	var recovery *[]string
	err = s.Scan(&r.ID, &r.Name, &r.Server, &r.Site, &r.Share, &r.Sub, &r.Seed, &r.IntakeQuota, &r.AtticQuota, &r.SweepMin, inJSON(&r.Edge), inJSON(&r.EdgeFigures), &r.Swept, &r.Scanned, &r.Filled, &r.Entries, &looked, &r.LookMs,
		&r.State, &r.Trouble, &since, &r.Settings, &picked, &r.Troubles, &r.Attic.Items, &r.Attic.Conflicts, &r.Attic.Bytes, &conflict, &filled, &r.IntakeUsed, &full, &stale, &r.Repairs, inJSON(&r.Removals), &r.Decision, &row.set, &notified, &names, inJSON(&recovery))
	if recovery != nil {
		r.Sealing = &model.Sealing{Names: names.Bool, RecoveryKeys: *recovery}
	}
	r.IntakeFull, r.AccountsStale = timeIn(full), timeIn(stale)
	r.FilledAt, r.Notified = timeIn(filled), timeIn(notified)
	r.Attic.LastConflict = timeIn(conflict)
	r.Looked, r.Since, r.PickedUp = timeIn(looked), timeIn(since), timeIn(picked)
	return row, err
}

// inJSON is a value that a column keeps as JSON; NULL for nil.
func inJSON[T any](of **T) *jsonColumn[T] { return &jsonColumn[T]{of} }

type jsonColumn[T any] struct{ of **T }

// Scan follows [sql.Scanner].
func (c *jsonColumn[T]) Scan(from any) error {
	text, ok := from.([]byte)
	if from == nil || !ok {
		*c.of = nil
		return nil
	}
	*c.of = new(T)
	return json.Unmarshal(text, *c.of)
}

// Value follows [driver.Valuer].
func (c *jsonColumn[T]) Value() (driver.Value, error) {
	if *c.of == nil {
		return nil, nil
	}
	return json.Marshal(*c.of)
}

func timeIn(t sql.NullTime) *time.Time {
	if !t.Valid {
		return nil
	}
	return &t.Time
}

const laneRows = `SELECT a.name, b.name, l.from_id, l.to_id, COALESCE(l.calendar, ''), l.closed, l.open_until, l.state, l.trouble, l.until, l.backlog_files, l.backlog_bytes, l.oldest,
	l.carried_files, l.carried_bytes, l.spared_bytes, l.conflicts, l.rate, l.last_carried, l.stalled, l.unqueued, l.set_id FROM replica_lanes l JOIN replicas a ON a.id = l.from_id JOIN replicas b ON b.id = l.to_id`

func scanLane(s scanner) (row ofSet[model.Lane], err error) {
	l := &row.of
	var open, until, oldest, last, stalled sql.NullTime
	err = s.Scan(&l.From, &l.To, &l.FromID, &l.ToID, &l.Calendar, &l.Closed, &open, &l.State, &l.Trouble, &until, &l.Backlog.Files, &l.Backlog.Bytes, &oldest,
		&l.Carried.Files, &l.Carried.Bytes, &l.Carried.Spared, &l.Carried.Conflicts, &l.Rate, &last, &stalled, &l.Unqueued, &row.set)
	l.OpenUntil, l.Until, l.Backlog.Oldest, l.LastCarried, l.Stalled = timeIn(open), timeIn(until), timeIn(oldest), timeIn(last), timeIn(stalled)
	return row, err
}

// members reads the replicas and lanes of sets.
func (q Queries) members(ctx context.Context, sets []model.ReplicaSet) error {
	if len(sets) == 0 {
		return nil
	}
	at := make(map[int64]*model.ReplicaSet, len(sets))
	ids := make([]any, len(sets))
	for i := range sets {
		at[sets[i].ID], ids[i] = &sets[i], sets[i].ID
		sets[i].Replicas, sets[i].Lanes = []model.Replica{}, []model.Lane{}
	}
	among := ` IN (?` + strings.Repeat(", ?", len(ids)-1) + `)`
	rows, err := q.run.QueryContext(ctx, replicaRows+` WHERE r.set_id`+among+` ORDER BY r.place`, ids...)
	replicas, err := collect(rows, err, scanReplica)
	if err != nil {
		return err
	}
	for _, r := range replicas {
		set := at[r.set]
		set.Replicas = append(set.Replicas, r.of)
		set.Replicas[len(set.Replicas)-1].Hub = set.Replicas[0].Target()
	}
	rows, err = q.run.QueryContext(ctx, laneRows+` WHERE l.set_id`+among+` ORDER BY a.place, b.place`, ids...)
	lanes, err := collect(rows, err, scanLane)
	for _, l := range lanes {
		at[l.set].Lanes = append(at[l.set].Lanes, l.of)
	}
	return err
}

// AddReplicaSet adds a set with its replicas and lanes, and fills in their numbers.
func (tx *Tx) AddReplicaSet(ctx context.Context, set *model.ReplicaSet) error {
	rules, err := json.Marshal(set.Filter)
	if err != nil {
		return err
	}
	_, set.ID, err = tx.exec(ctx, `INSERT INTO replica_sets (name, name_key, note, layout, calendar, filter, permissions, account_map_id, accounts_of, attic_days, removal_limit, paused, created, retry_first, retry_most, retry_alert, plan_run)
		VALUES (?, ?, ?, ?, ?, ?, ?, (SELECT id FROM account_maps WHERE name_key = ?), (SELECT id FROM servers WHERE name_key = ?), ?, ?, ?, ?, ?, ?, ?, NULLIF(?, 0))`,
		set.Name, namespace.Key(set.Name), set.Note, set.Layout, set.Calendar, rules, set.Permissions, namespace.Key(set.AccountMap), namespace.Key(set.AccountsOf), set.AtticDays, set.RemovalLimit, set.Paused, set.Created, set.Retry.FirstS, set.Retry.MostS, set.Retry.AlertAfter, set.PlanRun)
	if err != nil {
		return taken(err, "name", "replica set", set.Name)
	}
	ids := map[string]int64{}
	for i := range set.Replicas {
		r := &set.Replicas[i]
		if err := tx.addReplica(ctx, set.ID, i, r); err != nil {
			return err
		}
		ids[r.Name] = r.ID
	}
	for i := range set.Lanes {
		l := &set.Lanes[i]
		l.FromID, l.ToID = ids[l.From], ids[l.To]
		if err := tx.AddLane(ctx, set.ID, *l); err != nil {
			return err
		}
	}
	return nil
}

func (tx *Tx) addReplica(ctx context.Context, set int64, place int, r *model.Replica) (err error) {
	var server int64
	if err := tx.run.QueryRowContext(ctx, `SELECT id FROM servers WHERE name_key = ?`, namespace.Key(r.Server)).Scan(&server); err != nil {
		return notFound("server", r.Server, "list the servers with: bspan server list")
	}
	_, r.ID, err = tx.exec(ctx, `INSERT INTO replicas (set_id, place, name, name_key, server_id, share, sub, seed, intake_quota, attic_quota, sweep_min, edge) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		set, place, r.Name, namespace.Key(r.Name), server, r.Share, []byte(r.Sub), r.Seed, r.IntakeQuota, r.AtticQuota, r.SweepMin, inJSON(&r.Edge))
	if err != nil {
		return taken(err, "name", "replica", r.Name)
	}
	return tx.AddReplicaAccounts(ctx, r.ID, r.Accounts)
}

// AddLane adds a lane to a set. An unqueued one is to be given its backlog by [DB.QueueAll].
func (tx *Tx) AddLane(ctx context.Context, set int64, l model.Lane) error {
	if _, _, err := tx.exec(ctx, `DELETE FROM forgotten_lanes WHERE from_id = ? AND to_id = ?`, l.FromID, l.ToID); err != nil {
		return err
	}
	_, _, err := tx.exec(ctx, `INSERT INTO replica_lanes (from_id, to_id, set_id, calendar, unqueued) VALUES (?, ?, ?, NULLIF(?, ''), ?)`, l.FromID, l.ToID, set, l.Calendar, l.Unqueued)
	return err
}

// RemoveLane removes a lane. What it still had to carry is removed by [DB.Prune].
func (tx *Tx) RemoveLane(ctx context.Context, l model.Lane) error {
	if _, _, err := tx.exec(ctx, `INSERT IGNORE INTO forgotten_lanes (from_id, to_id) VALUES (?, ?)`, l.FromID, l.ToID); err != nil {
		return err
	}
	_, _, err := tx.exec(ctx, `DELETE FROM replica_lanes WHERE from_id = ? AND to_id = ?`, l.FromID, l.ToID)
	return err
}

// UpdateReplicaSet changes the settings of a set. Whoever keeps it picks them up.
func (tx *Tx) UpdateReplicaSet(ctx context.Context, set model.ReplicaSet) error {
	rules, err := json.Marshal(set.Filter)
	if err != nil {
		return err
	}
	return tx.expectVersion(ctx, "replica set "+set.Name, `UPDATE replica_sets SET note = ?, layout = ?, calendar = ?, filter = ?, attic_days = ?, removal_limit = ?, paused = ?, retry_first = ?, retry_most = ?, retry_alert = ?, version = version + 1 WHERE id = ? AND version = ?`,
		set.Note, set.Layout, set.Calendar, rules, set.AtticDays, set.RemovalLimit, set.Paused, set.Retry.FirstS, set.Retry.MostS, set.Retry.AlertAfter, set.ID, set.Version)
}

// UpdateLane changes how a lane is opened and closed.
func (tx *Tx) UpdateLane(ctx context.Context, l model.Lane) error {
	_, _, err := tx.exec(ctx, `UPDATE replica_lanes SET calendar = NULLIF(?, ''), closed = ?, open_until = ? WHERE from_id = ? AND to_id = ?`, l.Calendar, l.Closed, l.OpenUntil, l.FromID, l.ToID)
	return err
}

// RemoveReplicaSet removes a set and all that is known of its replicas. Their
// files stay.
func (tx *Tx) RemoveReplicaSet(ctx context.Context, set model.ReplicaSet) error {
	if err := tx.expectVersion(ctx, "replica set "+set.Name, `DELETE FROM replica_sets WHERE id = ? AND version = ?`, set.ID, set.Version); err != nil {
		return err
	}
	for _, r := range set.Replicas {
		if err := tx.forgetReplica(ctx, r.ID); err != nil {
			return err
		}
	}
	return nil
}

// ReplicasAt lists the replicas, with their sets, that are on a share.
func (q Queries) ReplicasAt(ctx context.Context, server, share string) (list []model.Replica, sets []string, err error) {
	type at struct {
		model.Replica
		set string
	}
	rows, err := q.run.QueryContext(ctx, `SELECT r.id, r.name, v.name, r.share, r.sub, t.name FROM replicas r JOIN replica_sets t ON t.id = r.set_id JOIN servers v ON v.id = r.server_id
		WHERE v.name_key = ? AND (? = '' OR r.share = ?) ORDER BY t.name_key, r.place`, namespace.Key(server), share, share)
	found, err := collect(rows, err, func(s scanner) (a at, err error) {
		return a, s.Scan(&a.ID, &a.Name, &a.Server, &a.Share, &a.Sub, &a.set)
	})
	for _, a := range found {
		list, sets = append(list, a.Replica), append(sets, a.set)
	}
	return list, sets, err
}

// StoreReplica keeps how a replica is.
func (q Queries) StoreReplica(ctx context.Context, r model.Replica) error {
	_, _, err := q.exec(ctx, `UPDATE replicas SET scanned = ?, filled_at = IF(? AND filled_at IS NULL, UTC_TIMESTAMP(6), filled_at), filled = ?, entries = ?, looked = ?, look_ms = ?, state = ?, trouble = ?, since = ?, settings = ?, picked_up = ?, intake_used = ?, intake_full = ?, accounts_stale = ?, repairs = ?, edge_figures = ?, removals = ?, removals_decision = IF(?, removals_decision, '') WHERE id = ?`,
		r.Scanned, r.Filled, r.Filled, r.Entries, r.Looked, r.LookMs, r.State, short(r.Trouble, 2000), r.Since, r.Settings, r.PickedUp, r.IntakeUsed, r.IntakeFull, r.AccountsStale, r.Repairs, inJSON(&r.EdgeFigures), inJSON(&r.Removals), r.Removals != nil, r.ID)
	return err
}

// StoreLane keeps how a lane is; what it has carried is added up.
func (q Queries) StoreLane(ctx context.Context, l model.Lane, more model.Carried) error {
	_, _, err := q.exec(ctx, `UPDATE replica_lanes SET state = ?, trouble = ?, until = ?, backlog_files = ?, backlog_bytes = ?, oldest = ?, rate = ?, stalled = ?,
		carried_files = carried_files + ?, carried_bytes = carried_bytes + ?, spared_bytes = spared_bytes + ?, conflicts = conflicts + ?, last_carried = IF(?, UTC_TIMESTAMP(6), last_carried) WHERE from_id = ? AND to_id = ?`,
		l.State, short(l.Trouble, 2000), l.Until, l.Backlog.Files, l.Backlog.Bytes, l.Backlog.Oldest, l.Rate, l.Stalled, more.Files, more.Bytes, more.Spared, more.Conflicts, more.Files > 0, l.FromID, l.ToID)
	return err
}

// WantLook notes that somebody wants the replicas of a set to be looked at: all,
// or one.
func (q Queries) WantLook(ctx context.Context, set, of int64) error {
	_, _, err := q.exec(ctx, `UPDATE replicas SET look_wanted = TRUE WHERE set_id = ? AND (? = 0 OR id = ?)`, set, of, of)
	return err
}

// Wanted is what people want of whoever keeps a set.
type Wanted struct {
	Version int64 // of the settings; 0 when the set is gone
	Looks   []replica.ID
	// Folders are changed folders by replica.
	Folders map[replica.ID][]string
}

// Wanted reads what people want; looks are told once.
func (db *DB) Wanted(ctx context.Context, set int64) (w Wanted, err error) {
	var looks bool
	err = db.run.QueryRowContext(ctx, `SELECT COALESCE(MAX(version), 0), EXISTS (SELECT 1 FROM replicas r WHERE r.set_id = ? AND (r.look_wanted OR EXISTS (SELECT 1 FROM replica_changed_folders n WHERE n.replica_id = r.id))) FROM replica_sets WHERE id = ?`, set, set).Scan(&w.Version, &looks)
	if err != nil || !looks {
		return w, unavailable(err)
	}
	err = db.Change(ctx, func(tx *Tx) error {
		// Who wants another look meanwhile waits until these are told.
		rows, err := tx.run.QueryContext(ctx, `SELECT id FROM replicas WHERE set_id = ? AND look_wanted FOR UPDATE`, set)
		if w.Looks, err = collect(rows, err, func(s scanner) (id replica.ID, err error) { return id, s.Scan(&id) }); err != nil {
			return err
		}
		for _, id := range w.Looks {
			if _, _, err := tx.exec(ctx, `UPDATE replicas SET look_wanted = FALSE WHERE id = ?`, id); err != nil {
				return err
			}
		}
		w.Folders, err = tx.takeChangedFolders(ctx, set)
		return err
	})
	return w, err
}

// StoreSamples keeps how lanes are, minute by minute, and forgets what is older
// than a month.
func (db *DB) StoreSamples(ctx context.Context, at time.Time, lanes []model.Lane) error {
	return db.Change(ctx, func(tx *Tx) error {
		for _, l := range lanes {
			if _, _, err := tx.exec(ctx, `REPLACE INTO replica_samples (from_id, to_id, at, backlog_files, backlog_bytes, carried_bytes) SELECT ?, ?, ?, ?, ?, carried_bytes FROM replica_lanes WHERE from_id = ? AND to_id = ?`,
				l.FromID, l.ToID, at, l.Backlog.Files, l.Backlog.Bytes, l.FromID, l.ToID); err != nil {
				return err
			}
			if at.Minute() != 0 {
				continue // once an hour is enough
			}
			if _, _, err := tx.exec(ctx, `DELETE FROM replica_samples WHERE from_id = ? AND to_id = ? AND at < ?`, l.FromID, l.ToID, at.AddDate(0, -1, 0)); err != nil {
				return err
			}
		}
		return nil
	})
}

// LaneSamples tells how the lanes of a set did since a moment.
func (q Queries) LaneSamples(ctx context.Context, set int64, since time.Time) ([]model.LaneSample, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT p.at, a.name, b.name, p.backlog_files, p.backlog_bytes, p.carried_bytes FROM replica_samples p
		JOIN replicas a ON a.id = p.from_id JOIN replicas b ON b.id = p.to_id WHERE a.set_id = ? AND p.at >= ? ORDER BY p.at, a.place, b.place LIMIT 50000`, set, since)
	return collect(rows, err, func(s scanner) (p model.LaneSample, err error) {
		return p, s.Scan(&p.At, &p.From, &p.To, &p.BacklogFiles, &p.BacklogBytes, &p.CarriedBytes)
	})
}

// NoteReplicaTrouble keeps what could not be done at a path of a replica, whose
// key is that of its records.
func (q Queries) NoteReplicaTrouble(ctx context.Context, r replica.ID, key string, t model.ReplicaTrouble) error {
	_, _, err := q.exec(ctx, `INSERT INTO replica_troubles (replica_id, path_hash, path, problem, since, last, times, in_use, holder, folder, name_key) VALUES (?, ?, ?, ?, ?, ?, 1, ?, ?, ?, ?)
		ON DUPLICATE KEY UPDATE problem = VALUES(problem), last = VALUES(last), times = times + 1, in_use = VALUES(in_use), holder = VALUES(holder)`,
		r, folderOf(t.Path), []byte(t.Path), short(t.Problem, 2000), t.Last, t.Last, t.InUse, short(t.Holder, 255), folderOf(path.Dir(key)), []byte(path.Base(key)))
	return err
}

// ForgetReplicaTroubles forgets what was last met before a moment, but what
// failed and waits in a backlog to be tried again. It reports whether any is left.
func (q Queries) ForgetReplicaTroubles(ctx context.Context, r replica.ID, before time.Time) (left bool, err error) {
	if _, _, err := q.exec(ctx, `DELETE t FROM replica_troubles t WHERE t.replica_id = ? AND t.last < ? AND NOT EXISTS (SELECT 1 FROM replica_lanes l JOIN replica_backlog b
		ON b.from_id = l.from_id AND b.to_id = l.to_id AND b.folder = t.folder AND b.name_key = t.name_key WHERE l.to_id = t.replica_id AND b.failed > 0)`, r, before); err != nil {
		return true, err
	}
	err = q.run.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM replica_troubles WHERE replica_id = ?)`, r).Scan(&left)
	return left, unavailable(err)
}

// ReplicaTroubles lists what could not be done at the replicas of a set, the
// oldest first.
func (q Queries) ReplicaTroubles(ctx context.Context, set int64, limit int) ([]model.ReplicaTrouble, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT r.name, t.path, t.problem, t.since, t.last, t.times, t.in_use, t.holder FROM replica_troubles t JOIN replicas r ON r.id = t.replica_id
		WHERE r.set_id = ? ORDER BY t.since, t.path LIMIT ?`, set, limit)
	return collect(rows, err, func(s scanner) (t model.ReplicaTrouble, err error) {
		return t, s.Scan(&t.Replica, &t.Path, &t.Problem, &t.Since, &t.Last, &t.Times, &t.InUse, &t.Holder)
	})
}

// AtticItems lists what the attics of a set keep, newest first: those before a number, unless it is 0.
func (q Queries) AtticItems(ctx context.Context, set int64, f model.AtticFilter, before int64, limit int) ([]model.AtticItem, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT a.id, r.name, a.path, a.attic, a.why, a.at, a.size FROM replica_attic a JOIN replicas r ON r.id = a.replica_id
		WHERE r.set_id = ? AND (? = '' OR r.name_key = ?) AND (? = '' OR a.why = ?) AND (? = '' OR a.path = ?) AND (? = 0 OR a.id < ?) ORDER BY a.id DESC LIMIT ?`,
		set, f.Replica, namespace.Key(f.Replica), f.Why, f.Why, f.Path, []byte(f.Path), before, before, limit)
	return collect(rows, err, scanAttic)
}

func scanAttic(s scanner) (a model.AtticItem, err error) {
	return a, s.Scan(&a.ID, &a.Replica, &a.Path, &a.Attic, &a.Why, &a.At, &a.Size)
}

// AtticItem finds something that an attic of a set keeps, with the permissions that it had
// when it has others there.
func (q Queries) AtticItem(ctx context.Context, set, id int64) (a model.AtticItem, had acl.Descriptor, err error) {
	var content []byte
	a, err = one(q.run.QueryRowContext(ctx, `SELECT a.id, r.name, a.path, a.attic, a.why, a.at, a.size, d.content FROM replica_attic a JOIN replicas r ON r.id = a.replica_id
		LEFT JOIN descriptors d ON d.id = a.descriptor_id WHERE r.set_id = ? AND a.id = ?`, set, id), func(s scanner) (a model.AtticItem, err error) {
		return a, s.Scan(&a.ID, &a.Replica, &a.Path, &a.Attic, &a.Why, &a.At, &a.Size, &content)
	}, fault.New(fault.NotFound, "list the attics with: bspan replica attic list", "no attic of the set keeps number %d", id))
	if err == nil && content != nil {
		had, err = acl.FromBinary(content)
	}
	return a, had, err
}

// ExpiredAttic lists what the attic of a replica has kept since before a moment.
func (q Queries) ExpiredAttic(ctx context.Context, r replica.ID, before time.Time, limit int) ([]model.AtticItem, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT a.id, r.name, a.path, a.attic, a.why, a.at, a.size FROM replica_attic a JOIN replicas r ON r.id = a.replica_id WHERE a.replica_id = ? AND a.at < ? ORDER BY a.id LIMIT ?`, r, before, limit)
	return collect(rows, err, scanAttic)
}

// ForgetAttic forgets something that an attic no longer keeps.
func (tx *Tx) ForgetAttic(ctx context.Context, id int64) error {
	if _, _, err := tx.exec(ctx, `UPDATE replicas r JOIN replica_attic a ON a.replica_id = r.id SET r.attic_items = r.attic_items - 1, r.attic_bytes = r.attic_bytes - a.size,
		r.attic_conflict_at = IF(r.attic_conflicts - (a.why = 'conflict') > 0, r.attic_conflict_at, NULL), r.attic_conflicts = r.attic_conflicts - (a.why = 'conflict') WHERE a.id = ?`, id); err != nil {
		return err
	}
	_, _, err := tx.exec(ctx, `DELETE FROM replica_attic WHERE id = ?`, id)
	return err
}

// ForgetAttic forgets something that an attic no longer keeps.
func (db *DB) ForgetAttic(ctx context.Context, id int64) error {
	return db.Change(ctx, func(tx *Tx) error { return tx.ForgetAttic(ctx, id) })
}

// short cuts a text to so many bytes, between two characters.
func short(text string, most int) string {
	if len(text) <= most {
		return text
	}
	for most > 0 && text[most]&0xC0 == 0x80 {
		most--
	}
	return text[:most]
}

// AtticBeyond lists the oldest of what the attic of a replica keeps beyond so many
// bytes.
func (q Queries) AtticBeyond(ctx context.Context, r replica.ID, quota int64) ([]model.AtticItem, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT id, name, path, attic, why, at, size FROM (SELECT a.id, r.name, a.path, a.attic, a.why, a.at, a.size, SUM(a.size) OVER (ORDER BY a.id DESC) newer
		FROM replica_attic a JOIN replicas r ON r.id = a.replica_id WHERE a.replica_id = ?) x WHERE newer > ? ORDER BY id LIMIT 500`, r, quota)
	return collect(rows, err, scanAttic)
}
