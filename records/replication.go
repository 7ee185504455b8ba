package records

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/replica"
)

// Replication keeps the records of replicas: it is the store of the engine.
type Replication struct {
	db *DB

	mu      sync.Mutex
	ids     DescriptorIDs // of permissions that are stored for good
	waiting []*waitingChange
	saving  int // how many keep what waits

	// RetryFirst and RetryMost are how long what failed is left alone: at first,
	// twice as long each time, and at most. Zero means 5 seconds and 10 minutes.
	RetryFirst, RetryMost time.Duration

	begun   begun
	opening sync.Mutex
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

// query reads records of a replica, with what is pending at their paths.
func (s *Replication) query(ctx context.Context, r replica.ID, where string, args ...any) ([]replica.Record, error) {
	if err := s.open(ctx, r); err != nil {
		return nil, err
	}
	rows, err := s.db.run.QueryContext(ctx, recordColumns+` WHERE r.replica_id = ? AND `+where, append([]any{r}, args...)...)
	records, err := collect(rows, err, scanRecord)
	s.begun.overlay(r, records)
	return records, err
}

// within is the condition that a row is one of some paths.
func within(table string, keys []string) (where string, args []any) {
	folders := map[string][]any{}
	for _, key := range keys {
		folders[path.Dir(key)] = append(folders[path.Dir(key)], []byte(path.Base(key)))
	}
	var any []string
	for _, folder := range slices.Sorted(maps.Keys(folders)) {
		names := folders[folder]
		any = append(any, table+`folder = ? AND `+table+`name_key IN (`+placeholders(len(names))+`)`)
		args = append(append(args, folderOf(folder)), names...)
	}
	return `(` + strings.Join(any, ` OR `) + `)`, args
}

// Get returns the records of paths, in their order; of a path that has none, one
// that knows of nothing there.
func (s *Replication) Get(ctx context.Context, r replica.ID, keys ...string) ([]replica.Record, error) {
	if err := s.open(ctx, r); err != nil {
		return nil, err
	}
	records, err := s.db.replicaRecords(ctx, r, keys)
	s.begun.overlay(r, records)
	return records, err
}

// ReplicaRecord reads what is known of a path at a replica.
func (q Queries) ReplicaRecord(ctx context.Context, r replica.ID, key string) (replica.Record, error) {
	records, err := q.replicaRecords(ctx, r, []string{key})
	if err != nil {
		return replica.Record{}, err
	}
	return records[0], nil
}

// replicaRecords reads the records of paths, in their order.
func (q Queries) replicaRecords(ctx context.Context, r replica.ID, keys []string) ([]replica.Record, error) {
	records := make([]replica.Record, 0, len(keys))
	for part := range slices.Chunk(keys, bulkRows) {
		where, args := within(`r.`, part)
		rows, err := q.run.QueryContext(ctx, recordColumns+` WHERE r.replica_id = ? AND `+where, append([]any{r}, args...)...)
		found, err := collect(rows, err, scanRecord)
		if err != nil {
			return nil, err
		}
		known := make(map[string]replica.Record, len(found))
		for _, rec := range found {
			known[rec.Key] = rec
		}
		for _, key := range part {
			rec := known[key]
			rec.Key = key
			records = append(records, rec)
		}
	}
	return records, nil
}

// Children lists the records of what is, or was, right in a folder.
func (s *Replication) Children(ctx context.Context, r replica.ID, folder string) ([]replica.Record, error) {
	return s.query(ctx, r, `r.folder = ? ORDER BY r.name_key`, folderOf(folder))
}

// ByFile lists the records of files that had one of some numbers when last seen.
func (s *Replication) ByFile(ctx context.Context, r replica.ID, ids ...uint64) ([]replica.Record, error) {
	var records []replica.Record
	for part := range slices.Chunk(ids, bulkRows) {
		args := []any{replica.File}
		for _, id := range part {
			args = append(args, id)
		}
		found, err := s.query(ctx, r, `r.kind = ? AND r.seen_file IN (`+placeholders(len(part))+`) ORDER BY r.folder, r.name_key`, args...)
		if err != nil {
			return nil, err
		}
		records = append(records, found...)
	}
	return records, nil
}

// mostAlike is how many files are listed that may be copies of each other.
const mostAlike = 8

// Alike lists the records of some of the files that were read and have a size and
// a time.
func (s *Replication) Alike(ctx context.Context, r replica.ID, size int64, modified time.Time) ([]replica.Record, error) {
	return s.query(ctx, r, `r.kind = ? AND r.size = ? AND r.modified = ? AND r.digest <> ? LIMIT ?`, replica.File, size, toNano(modified), make([]byte, len(replica.Digest{})), mostAlike)
}

// Unfinished lists the records with something pending.
func (s *Replication) Unfinished(ctx context.Context, r replica.ID) ([]replica.Record, error) {
	records, err := s.query(ctx, r, `r.unfinished ORDER BY r.folder, r.name_key`)
	if err != nil {
		return nil, err
	}
	keys := s.begun.keys(r)
	begun, err := s.Get(ctx, r, keys...)
	for _, rec := range begun {
		if rec.Pending != nil && !slices.ContainsFunc(records, func(other replica.Record) bool { return other.Key == rec.Key }) {
			records = append(records, rec)
		}
	}
	return records, err
}

// Save keeps a change, all of it or nothing. Changes that are saved at the same
// time are kept together: each would wait for the disk alone.
func (s *Replication) Save(ctx context.Context, c replica.Change) error {
	mine := &waitingChange{change: c, kept: make(chan error, 1)}
	s.mu.Lock()
	s.waiting = append(s.waiting, mine)
	more := s.saving < savers
	if more {
		s.saving++
	}
	s.mu.Unlock()
	if more {
		go s.keepWaiting(context.WithoutCancel(ctx))
	}
	select {
	case err := <-mine.kept:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// mostTogether is how many changes are kept in one transaction.
const mostTogether = 500

// savers is how many keep what waits: while one makes statements of it, the
// database works for another one.
const savers = 3

type waitingChange struct {
	change replica.Change
	kept   chan error
}

// keepWaiting keeps what waits until nothing does.
func (s *Replication) keepWaiting(ctx context.Context) {
	for {
		s.mu.Lock()
		n := min(len(s.waiting), mostTogether)
		together := s.waiting[:n:n]
		s.waiting = s.waiting[n:]
		if len(together) == 0 {
			s.saving--
		}
		s.mu.Unlock()
		if len(together) == 0 {
			return
		}
		if err := s.keep(ctx, together...); err == nil || len(together) == 1 {
			for _, w := range together {
				w.kept <- err
			}
			continue
		}
		for _, w := range together { // one of them may be what does not go
			w.kept <- s.keep(ctx, w)
		}
	}
}

// keep keeps changes, all of them or none.
func (s *Replication) keep(ctx context.Context, together ...*waitingChange) error {
	for _, w := range together {
		if err := s.open(ctx, w.change.Replica); err != nil {
			return err
		}
	}
	var ids DescriptorIDs
	var rows map[replica.ID]int64
	over := s.begun.takeOver()
	err := s.db.Change(ctx, func(tx *Tx) error {
		s.mu.Lock()
		ids = maps.Clone(s.ids) // what this attempt stores is known only once it is kept
		s.mu.Unlock()
		var records, queued, kept bulk
		for _, w := range together {
			c := &w.change
			for i := range c.Records {
				if c.Begun {
					break
				}
				row, err := tx.replicaRow(ctx, c.Replica, &c.Records[i], ids)
				if err != nil {
					return err
				}
				records.add(row...)
			}
			for _, k := range c.Kept {
				kept.add(c.Replica, time.Now().UTC(), []byte(k.Path), []byte(k.Attic), k.Why, k.Size)
			}
		}
		if err := queueAll(ctx, tx, &queued, together); err != nil {
			return err
		}
		var err error
		if rows, err = keepBegun(ctx, tx, together); err != nil {
			return err
		}
		if err := forgetBegun(ctx, tx, over); err != nil {
			return err
		}
		if err := records.replacing(ctx, tx, replicaColumns); err != nil {
			return err
		}
		if err := queued.updating(ctx, tx, backlogColumns, backlogAgain); err != nil {
			return err
		}
		return kept.replacing(ctx, tx, `replica_attic (replica_id, at, path, attic, why, size)`)
	})
	if err == nil {
		s.mu.Lock()
		s.ids = ids
		s.mu.Unlock()
		s.begun.noted(together, rows)
	} else {
		s.begun.giveBack(over)
	}
	return err
}

const replicaColumns = `replica_records (replica_id, folder, name_key, path_key, kind, name, version, size, modified, digest, changed, changed_by, moved,
	permissions_version, descriptor_id, attributes, permissions_changed, permissions_changed_by, seen_size, seen_modified, seen_file, seen_descriptor_id, seen_attributes, pending)`

// replicaRow is the row of a record.
func (tx *Tx) replicaRow(ctx context.Context, r replica.ID, rec *replica.Record, ids DescriptorIDs) ([]any, error) {
	descriptor, err := ids.number(ctx, tx.Queries, rec.Permissions.Descriptor)
	if err != nil {
		return nil, err
	}
	seen, err := ids.number(ctx, tx.Queries, rec.Seen.Descriptor)
	if err != nil {
		return nil, err
	}
	var pending any
	if rec.Pending != nil {
		if pending, err = json.Marshal(rec.Pending); err != nil {
			return nil, err
		}
	}
	return []any{r, folderOf(path.Dir(rec.Key)), []byte(path.Base(rec.Key)), []byte(rec.Key), rec.Kind, []byte(rec.Name), rec.Version.String(),
		rec.Size, toNano(rec.Modified), rec.Digest[:], toNano(rec.Changed), rec.By, []byte(rec.Moved),
		rec.Permissions.Version.String(), descriptor, rec.Permissions.Attributes, toNano(rec.Permissions.Changed), rec.Permissions.By,
		rec.Seen.Size, toNano(rec.Seen.Modified), rec.Seen.ID, seen, rec.Seen.Attributes, pending}, nil
}

// EachHeld tells of everything that a replica holds, as far as it was seen: its
// path as names are compared, whether it is a folder, its bytes and its time.
func (q Queries) EachHeld(ctx context.Context, r replica.ID, each func(key string, folder bool, size int64, modified time.Time) error) error {
	rows, err := q.run.QueryContext(ctx, `SELECT path_key, kind, size, modified FROM replica_records WHERE replica_id = ? AND kind <> ?`, r, replica.None)
	if err != nil {
		return unavailable(err)
	}
	defer rows.Close()
	for rows.Next() {
		var key string
		var kind replica.Kind
		var size, modified int64
		if err := rows.Scan(&key, &kind, &size, &modified); err != nil {
			return unavailable(err)
		}
		if err := each(key, kind == replica.Folder, size, fromNano(modified)); err != nil {
			return err
		}
	}
	return unavailable(rows.Err())
}
