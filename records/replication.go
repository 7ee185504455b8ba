package records

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"maps"
	"path"
	"sync"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/replica"
)

// Replication keeps the records of replicas: it is the store of the engine.
type Replication struct {
	db *DB

	mu  sync.Mutex
	ids DescriptorIDs // of permissions that are stored for good
}

// Replication returns the store of the replication engine.
func (db *DB) Replication() *Replication { return &Replication{db: db, ids: DescriptorIDs{}} }

// folderOf is the form in which the folder of a path is a key. Two folders with
// one form would be taken for one; with 128 bits of SHA-256 that does not happen.
func folderOf(folder string) []byte {
	sum := sha256.Sum256([]byte(folder))
	return sum[:16]
}

const recordColumns = `SELECT r.path_key, r.kind, r.name, r.version, r.size, r.modified, r.digest, r.changed, r.changed_by, r.moved,
	r.permissions_version, p.content, r.attributes, r.permissions_changed, r.permissions_changed_by,
	r.seen_size, r.seen_modified, r.seen_file, s.content, r.seen_attributes, r.pending
	FROM replica_records r LEFT JOIN descriptors p ON p.id = r.descriptor_id LEFT JOIN descriptors s ON s.id = r.seen_descriptor_id`

func scanRecord(s scanner) (rec replica.Record, err error) {
	var version, permissions string
	var modified, changed, permitted, seenModified int64
	var digest, descriptor, seen, pending []byte
	err = s.Scan(&rec.Key, &rec.Kind, &rec.Name, &version, &rec.Size, &modified, &digest, &changed, &rec.By, &rec.Moved,
		&permissions, &descriptor, &rec.Permissions.Attributes, &permitted, &rec.Permissions.By,
		&rec.Seen.Size, &seenModified, &rec.Seen.ID, &seen, &rec.Seen.Attributes, &pending)
	if err != nil {
		return rec, err
	}
	copy(rec.Digest[:], digest)
	rec.Modified, rec.Changed, rec.Permissions.Changed, rec.Seen.Modified = fromNano(modified), fromNano(changed), fromNano(permitted), fromNano(seenModified)
	if rec.Version, err = replica.ParseVector(version); err != nil {
		return rec, err
	}
	if rec.Permissions.Version, err = replica.ParseVector(permissions); err != nil {
		return rec, err
	}
	if rec.Permissions.Descriptor, err = descriptorIn(descriptor); err != nil {
		return rec, err
	}
	if rec.Seen.Descriptor, err = descriptorIn(seen); err != nil {
		return rec, err
	}
	if pending != nil {
		rec.Pending = &replica.Pending{}
		err = json.Unmarshal(pending, rec.Pending)
	}
	return rec, err
}

func descriptorIn(content []byte) (acl.Descriptor, error) {
	if content == nil {
		return acl.Descriptor{}, nil
	}
	return acl.FromBinary(content)
}

// Times are kept to the nanosecond, since two are compared to tell whether a
// file changed; the zero time is the least number.
const noNano = -1 << 63

func toNano(t time.Time) int64 {
	if t.IsZero() {
		return noNano
	}
	return t.UnixNano()
}

func fromNano(n int64) time.Time {
	if n == noNano {
		return time.Time{}
	}
	return time.Unix(0, n).UTC()
}

func (s *Replication) query(ctx context.Context, where string, args ...any) ([]replica.Record, error) {
	rows, err := s.db.run.QueryContext(ctx, recordColumns+` WHERE `+where, args...)
	return collect(rows, err, scanRecord)
}

// Get returns the record of a path, or one that knows of nothing there.
func (s *Replication) Get(ctx context.Context, r replica.ID, key string) (replica.Record, error) {
	found, err := s.query(ctx, `r.replica_id = ? AND r.folder = ? AND r.name_key = ?`, r, folderOf(path.Dir(key)), []byte(path.Base(key)))
	if err != nil || len(found) == 0 {
		return replica.Record{Key: key}, err
	}
	return found[0], nil
}

// Children lists the records of what is, or was, right in a folder.
func (s *Replication) Children(ctx context.Context, r replica.ID, folder string) ([]replica.Record, error) {
	return s.query(ctx, `r.replica_id = ? AND r.folder = ? ORDER BY r.name_key`, r, folderOf(folder))
}

// ByFile lists the records of files that had a number when last seen.
func (s *Replication) ByFile(ctx context.Context, r replica.ID, id uint64) ([]replica.Record, error) {
	return s.query(ctx, `r.replica_id = ? AND r.seen_file = ? AND r.kind = ? ORDER BY r.folder, r.name_key`, r, id, replica.File)
}

// Unfinished lists the records with something pending.
func (s *Replication) Unfinished(ctx context.Context, r replica.ID) ([]replica.Record, error) {
	return s.query(ctx, `r.replica_id = ? AND r.unfinished ORDER BY r.folder, r.name_key`, r)
}

// Save keeps a change, all of it or nothing.
func (s *Replication) Save(ctx context.Context, c replica.Change) error {
	var ids DescriptorIDs
	err := s.db.Change(ctx, func(tx *Tx) error {
		s.mu.Lock()
		ids = maps.Clone(s.ids) // what this attempt stores is known only once it is kept
		s.mu.Unlock()
		for first := 0; first < len(c.Records); first += bulkRows {
			part := c.Records[first:min(first+bulkRows, len(c.Records))]
			if err := tx.saveReplicaRecords(ctx, c.Replica, part, ids); err != nil {
				return err
			}
			for _, lane := range c.Queue {
				if err := tx.queue(ctx, lane, part); err != nil {
					return err
				}
			}
		}
		var kept values
		for _, k := range c.Kept {
			kept.add(c.Replica, time.Now().UTC(), []byte(k.Path), []byte(k.Attic), k.Why)
		}
		return kept.into(ctx, tx, `replica_attic (replica_id, at, path, attic, why)`)
	})
	if err == nil {
		s.mu.Lock()
		s.ids = ids
		s.mu.Unlock()
	}
	return err
}

func (tx *Tx) saveReplicaRecords(ctx context.Context, r replica.ID, part []replica.Record, ids DescriptorIDs) error {
	var rows values
	for _, rec := range part {
		descriptor, err := ids.number(ctx, tx.Queries, rec.Permissions.Descriptor)
		if err != nil {
			return err
		}
		seen, err := ids.number(ctx, tx.Queries, rec.Seen.Descriptor)
		if err != nil {
			return err
		}
		var pending any
		if rec.Pending != nil {
			if pending, err = json.Marshal(rec.Pending); err != nil {
				return err
			}
		}
		rows.add(r, folderOf(path.Dir(rec.Key)), []byte(path.Base(rec.Key)), []byte(rec.Key), rec.Kind, []byte(rec.Name), rec.Version.String(),
			rec.Size, toNano(rec.Modified), rec.Digest[:], toNano(rec.Changed), rec.By, []byte(rec.Moved),
			rec.Permissions.Version.String(), descriptor, rec.Permissions.Attributes, toNano(rec.Permissions.Changed), rec.Permissions.By,
			rec.Seen.Size, toNano(rec.Seen.Modified), rec.Seen.ID, seen, rec.Seen.Attributes, pending)
	}
	return rows.replacing(ctx, tx, `replica_records (replica_id, folder, name_key, path_key, kind, name, version, size, modified, digest, changed, changed_by, moved,
		permissions_version, descriptor_id, attributes, permissions_changed, permissions_changed_by, seen_size, seen_modified, seen_file, seen_descriptor_id, seen_attributes, pending)`)
}

// queue puts the paths of records into the backlog of a lane.
func (tx *Tx) queue(ctx context.Context, lane replica.Lane, part []replica.Record) error {
	keys := make([]string, len(part))
	for i, rec := range part {
		keys[i] = rec.Key
	}
	return tx.queueKeys(ctx, lane, keys)
}

func (tx *Tx) queueKeys(ctx context.Context, lane replica.Lane, keys []string) error {
	var rows values
	var first uint64
	if err := tx.run.QueryRowContext(ctx, `SELECT UUID_SHORT()`).Scan(&first); err != nil {
		return err
	}
	// One number for all of them: it has only to be another one the next time.
	for _, key := range keys {
		rows.add(lane.From, lane.To, folderOf(path.Dir(key)), []byte(path.Base(key)), []byte(key), first)
	}
	return rows.replacing(ctx, tx, `replica_backlog (from_id, to_id, folder, name_key, path_key, seq)`)
}

// Backlog lists the paths that a lane has waited with longest.
func (s *Replication) Backlog(ctx context.Context, lane replica.Lane, limit int) ([]replica.Ticket, error) {
	rows, err := s.db.run.QueryContext(ctx, `SELECT path_key, seq FROM replica_backlog WHERE from_id = ? AND to_id = ? ORDER BY seq LIMIT ?`, lane.From, lane.To, limit)
	return collect(rows, err, func(s scanner) (t replica.Ticket, err error) { return t, s.Scan(&t.Key, &t.Seq) })
}

// Done takes tickets away, but those put there again meanwhile.
func (s *Replication) Done(ctx context.Context, lane replica.Lane, tickets []replica.Ticket) error {
	return s.db.Change(ctx, func(tx *Tx) error {
		for _, t := range tickets {
			if _, _, err := tx.exec(ctx, `DELETE FROM replica_backlog WHERE from_id = ? AND to_id = ? AND folder = ? AND name_key = ? AND seq = ?`,
				lane.From, lane.To, folderOf(path.Dir(t.Key)), []byte(path.Base(t.Key)), t.Seq); err != nil {
				return err
			}
		}
		return nil
	})
}

// Postpone puts tickets behind the others.
func (s *Replication) Postpone(ctx context.Context, lane replica.Lane, tickets []replica.Ticket) error {
	keys := make([]string, len(tickets))
	for i, t := range tickets {
		keys[i] = t.Key
	}
	return s.db.Change(ctx, func(tx *Tx) error { return tx.queueKeys(ctx, lane, keys) })
}
