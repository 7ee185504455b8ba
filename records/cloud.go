package records

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"github.com/zeebo/blake3"

	"bridgespan/core/namespace"
	"bridgespan/core/offload"
	"bridgespan/core/replica"
	"bridgespan/model"
)

const cloudSetupColumns = `SELECT name, draft, steps, checked, start_run, changed, changed_by, version FROM cloud_setups`

func scanCloudSetup(s scanner) (c model.CloudSetup, err error) {
	var draft, steps []byte
	var checked sql.NullTime
	if err = s.Scan(&c.Name, &draft, &steps, &checked, &c.Start, &c.Changed, &c.By, &c.Version); err != nil {
		return c, err
	}
	if checked.Valid {
		c.Checked = &checked.Time
	}
	if err = json.Unmarshal(draft, &c.CloudDraft); err != nil {
		return c, err
	}
	return c, json.Unmarshal(steps, &c.Steps)
}

// CloudSetups lists the cloud sets that are being set up, by name.
func (q Queries) CloudSetups(ctx context.Context, page Page) ([]model.CloudSetup, error) {
	rows, err := q.run.QueryContext(ctx, cloudSetupColumns+` WHERE name_key > ? ORDER BY name_key LIMIT ?`, page.After, page.Limit)
	return collect(rows, err, scanCloudSetup)
}

// CloudSetup finds the set-up of a cloud set by its name.
func (q Queries) CloudSetup(ctx context.Context, name string) (model.CloudSetup, error) {
	return one(q.run.QueryRowContext(ctx, cloudSetupColumns+` WHERE name_key = ?`, namespace.Key(name)), scanCloudSetup,
		notFound("set-up of a cloud set", name, "list the set-ups with: bspan cloud setup list"))
}

// AddCloudSetup adds the set-up of a cloud set. Nothing of it is checked yet.
func (tx *Tx) AddCloudSetup(ctx context.Context, c model.CloudSetup) error {
	draft, err := json.Marshal(c.CloudDraft)
	if err != nil {
		return err
	}
	_, _, err = tx.exec(ctx, `INSERT INTO cloud_setups (name, name_key, draft, steps, changed, changed_by) VALUES (?, ?, ?, '[]', ?, ?)`, c.Name, namespace.Key(c.Name), draft, c.Changed, c.By)
	return taken(err, "name", "set-up of a cloud set", c.Name)
}

// UpdateCloudSetup changes a draft. What its checks found is forgotten.
func (tx *Tx) UpdateCloudSetup(ctx context.Context, c model.CloudSetup) error {
	draft, err := json.Marshal(c.CloudDraft)
	if err != nil {
		return err
	}
	return tx.expectVersion(ctx, "set-up of "+c.Name, `UPDATE cloud_setups SET draft = ?, steps = '[]', checked = NULL, changed = ?, changed_by = ?, version = version + 1 WHERE name_key = ? AND version = ?`,
		draft, c.Changed, c.By, namespace.Key(c.Name), c.Version)
}

// RemoveCloudSetup removes a set-up.
func (tx *Tx) RemoveCloudSetup(ctx context.Context, c model.CloudSetup) error {
	return tx.expectVersion(ctx, "set-up of "+c.Name, `DELETE FROM cloud_setups WHERE name_key = ? AND version = ?`, namespace.Key(c.Name), c.Version)
}

// StoreSetupChecks stores what the checks of a draft found, unless the draft was changed meanwhile.
func (q Queries) StoreSetupChecks(ctx context.Context, c model.CloudSetup) error {
	steps, err := json.Marshal(c.Steps)
	if err != nil {
		return err
	}
	_, _, err = q.exec(ctx, `UPDATE cloud_setups SET steps = ?, checked = ? WHERE name_key = ? AND version = ?`, steps, c.Checked, namespace.Key(c.Name), c.Version)
	return err
}

// StoreSetupStart stores the number of the run that creates the set.
func (q Queries) StoreSetupStart(ctx context.Context, name string, run int64) error {
	_, _, err := q.exec(ctx, `UPDATE cloud_setups SET start_run = ? WHERE name_key = ?`, run, namespace.Key(name))
	return err
}

// EndCloudSetup removes the set-up of a set that was created.
func (q Queries) EndCloudSetup(ctx context.Context, name string) error {
	_, _, err := q.exec(ctx, `DELETE FROM cloud_setups WHERE name_key = ?`, namespace.Key(name))
	return err
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

// mostChangedFolders bounds the changed folders of a replica that are stored. With more, all of the replica is scanned.
const mostChangedFolders = 1000

// AddChangedFolders stores folders of a replica in which something changed. The keeper of the set reads them by [DB.Wanted].
func (tx *Tx) AddChangedFolders(ctx context.Context, set, of int64, folders []string) error {
	var rows bulk
	for _, f := range folders {
		hash := blake3.Sum256([]byte(f))
		rows.add(of, hash[:16], []byte(f))
	}
	if err := rows.replacing(ctx, tx, `replica_changed_folders (replica_id, hash, folder)`); err != nil {
		return err
	}
	var n int
	if err := tx.run.QueryRowContext(ctx, `SELECT COUNT(*) FROM replica_changed_folders WHERE replica_id = ?`, of).Scan(&n); err != nil || n <= mostChangedFolders {
		return unavailable(err)
	}
	if _, _, err := tx.exec(ctx, `DELETE FROM replica_changed_folders WHERE replica_id = ?`, of); err != nil {
		return err
	}
	return tx.WantLook(ctx, set, of)
}

// Notified stores that an event notification has just reported a change in the bucket of a replica, to the minute.
func (tx *Tx) Notified(ctx context.Context, of int64, at time.Time) error {
	_, _, err := tx.exec(ctx, `UPDATE replicas SET notified = ? WHERE id = ? AND (notified IS NULL OR notified < ?)`, at.UTC(), of, at.UTC().Add(-time.Minute))
	return err
}

// takeChangedFolders reads and removes the changed folders of a set.
func (tx *Tx) takeChangedFolders(ctx context.Context, set int64) (map[replica.ID][]string, error) {
	type news struct {
		of     replica.ID
		folder string
	}
	rows, err := tx.run.QueryContext(ctx, `SELECT n.replica_id, n.folder FROM replica_changed_folders n JOIN replicas r ON r.id = n.replica_id WHERE r.set_id = ? FOR UPDATE`, set)
	list, err := collect(rows, err, func(s scanner) (n news, err error) { return n, s.Scan(&n.of, &n.folder) })
	if err != nil || len(list) == 0 {
		return nil, err
	}
	folders := map[replica.ID][]string{}
	for _, n := range list {
		folders[n.of] = append(folders[n.of], n.folder)
	}
	for of := range folders {
		if _, _, err := tx.exec(ctx, `DELETE FROM replica_changed_folders WHERE replica_id = ?`, of); err != nil {
			return nil, err
		}
	}
	return folders, nil
}

// SetEventToken stores the SHA-256 of the token for event notifications of an account, in place of the one before.
func (tx *Tx) SetEventToken(ctx context.Context, server string, hash []byte, now time.Time) error {
	_, _, err := tx.exec(ctx, `REPLACE INTO bucket_event_tokens (server_id, hash, created) SELECT id, ?, ? FROM servers WHERE name_key = ?`, hash, now.UTC(), namespace.Key(server))
	return err
}

// EventServer returns the account whose token has this SHA-256, or "".
func (q Queries) EventServer(ctx context.Context, hash []byte) (server string, err error) {
	err = q.run.QueryRowContext(ctx, `SELECT v.name FROM bucket_event_tokens t JOIN servers v ON v.id = t.server_id WHERE t.hash = ?`, hash).Scan(&server)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return server, unavailable(err)
}

const sealedFolderColumns = `SELECT v.name, f.bucket, f.folder, f.names, f.recipient, f.recovery_keys, f.created, f.created_by, f.version,
	COALESCE((SELECT t.name FROM replicas r JOIN replica_sets t ON t.id = r.set_id WHERE r.server_id = f.server_id AND r.share = f.bucket AND r.sub = f.folder LIMIT 1), '')
	FROM sealed_folders f JOIN servers v ON v.id = f.server_id`

func scanSealedFolder(s scanner) (f model.SealedFolder, err error) {
	var recovery []byte
	if err = s.Scan(&f.Server, &f.Bucket, &f.Folder, &f.Names, &f.Recipient, &recovery, &f.Created, &f.By, &f.Version, &f.Set); err != nil {
		return f, err
	}
	return f, json.Unmarshal(recovery, &f.RecoveryKeys)
}

// SealedFolders lists the folders of buckets whose files are sealed.
func (q Queries) SealedFolders(ctx context.Context) ([]model.SealedFolder, error) {
	rows, err := q.run.QueryContext(ctx, sealedFolderColumns+` ORDER BY v.name_key, f.bucket, f.folder`)
	return collect(rows, err, scanSealedFolder)
}

// SealedFolder finds the sealed folder of a place. It returns false when the place is not sealed.
func (q Queries) SealedFolder(ctx context.Context, at namespace.Target) (f model.SealedFolder, sealed bool, err error) {
	f, err = scanSealedFolder(q.run.QueryRowContext(ctx, sealedFolderColumns+` WHERE v.name_key = ? AND f.bucket = ? AND f.folder = ?`, namespace.Key(at.Server), at.Share, []byte(at.Sub)))
	if errors.Is(err, sql.ErrNoRows) {
		return f, false, nil
	}
	return f, err == nil, err
}

// SealedFor finds the sealed folder whose files are encrypted to a public key.
func (q Queries) SealedFor(ctx context.Context, recipient string) (model.SealedFolder, error) {
	return one(q.run.QueryRowContext(ctx, sealedFolderColumns+` WHERE f.recipient = ?`, recipient), scanSealedFolder,
		notFound("sealed folder", recipient, "list the sealed folders with: bspan cloud key list"))
}

// FolderKey returns the encrypted key of a sealed folder.
func (q Queries) FolderKey(ctx context.Context, f model.SealedFolder) (secret []byte, err error) {
	err = q.run.QueryRowContext(ctx, `SELECT secret FROM sealed_folders WHERE recipient = ?`, f.Recipient).Scan(&secret)
	return secret, err
}

// AddSealedFolder adds a sealed folder with its encrypted key.
func (tx *Tx) AddSealedFolder(ctx context.Context, f model.SealedFolder, secret []byte) error {
	recovery, err := json.Marshal(f.RecoveryKeys)
	if err != nil {
		return err
	}
	_, _, err = tx.exec(ctx, `INSERT INTO sealed_folders (server_id, bucket, folder, names, recipient, recovery_keys, secret, created, created_by)
		SELECT id, ?, ?, ?, ?, ?, ?, ?, ? FROM servers WHERE name_key = ?`, f.Bucket, []byte(f.Folder), f.Names, f.Recipient, recovery, secret, f.Created, f.By, namespace.Key(f.Server))
	return taken(err, "folder", "sealed folder", f.Bucket+"/"+f.Folder)
}

// SetRecoveryKeys stores the recovery keys of a sealed folder.
func (tx *Tx) SetRecoveryKeys(ctx context.Context, f model.SealedFolder) error {
	recovery, err := json.Marshal(f.RecoveryKeys)
	if err != nil {
		return err
	}
	return tx.expectVersion(ctx, "sealed folder "+f.Bucket+"/"+f.Folder, `UPDATE sealed_folders SET recovery_keys = ?, version = version + 1 WHERE recipient = ? AND version = ?`, recovery, f.Recipient, f.Version)
}

// RemoveSealedFolder removes the key of a sealed folder.
func (tx *Tx) RemoveSealedFolder(ctx context.Context, f model.SealedFolder) error {
	return tx.expectVersion(ctx, "sealed folder "+f.Bucket+"/"+f.Folder, `DELETE FROM sealed_folders WHERE recipient = ? AND version = ?`, f.Recipient, f.Version)
}
