package records

import (
	"context"

	"bridgespan/core/chunk"
	"bridgespan/core/replica"
)

// Partials lists what has come of files that were broken off on their way to a replica.
func (s *Replication) Partials(ctx context.Context, r replica.ID) ([]chunk.Partial, error) {
	return s.db.partials(ctx, r)
}

func (q Queries) partials(ctx context.Context, r replica.ID) ([]chunk.Partial, error) {
	rows, err := q.run.QueryContext(ctx, `SELECT path_key, staged, bytes, digest, kept FROM replica_partials WHERE replica_id = ? ORDER BY path_key`, r)
	return collect(rows, err, func(s scanner) (p chunk.Partial, err error) {
		var key, staged, digest []byte
		err = s.Scan(&key, &staged, &p.Bytes, &digest, &p.Kept)
		p.Key, p.Staged = string(key), string(staged)
		copy(p.Digest[:], digest)
		return p, err
	})
}

// KeepPartial keeps how much of a file has come, in the place of what was kept of it.
func (s *Replication) KeepPartial(ctx context.Context, r replica.ID, p chunk.Partial) error {
	return s.db.Change(ctx, func(tx *Tx) error {
		_, _, err := tx.exec(ctx, `REPLACE INTO replica_partials (replica_id, path_hash, path_key, staged, bytes, digest, kept) VALUES (?, ?, ?, ?, ?, ?, ?)`,
			r, folderOf(p.Key), []byte(p.Key), []byte(p.Staged), p.Bytes, p.Digest[:], p.Kept.UTC())
		return err
	})
}

// ForgetPartial forgets what has come of a file.
func (s *Replication) ForgetPartial(ctx context.Context, r replica.ID, key string) error {
	return s.db.Change(ctx, func(tx *Tx) error {
		_, _, err := tx.exec(ctx, `DELETE FROM replica_partials WHERE replica_id = ? AND path_hash = ?`, r, folderOf(key))
		return err
	})
}
