package records

import (
	"context"
	"encoding/json"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/chunk"
	"bridgespan/core/replica"
	"bridgespan/records/pack"
)

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
	rec.Modified, rec.Changed, rec.Permissions.Changed, rec.Seen.Modified = pack.FromNano(modified), pack.FromNano(changed), pack.FromNano(permitted), pack.FromNano(seenModified)
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

// rows reads the records of a replica that are rows.
func (q Queries) rows(ctx context.Context, r replica.ID, where string, args ...any) ([]replica.Record, error) {
	rows, err := q.run.QueryContext(ctx, recordColumns+` WHERE r.replica_id = ? AND `+where, append([]any{r}, args...)...)
	return collect(rows, err, scanRecord)
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
	records, err := s.db.replicaRecords(ctx, r, keys, &s.descriptors)
	s.begun.overlay(r, records)
	return records, err
}

// ReplicaRecord reads what is known of a path at a replica.
func (q Queries) ReplicaRecord(ctx context.Context, r replica.ID, key string) (replica.Record, error) {
	records, err := q.replicaRecords(ctx, r, []string{key}, &descriptors{})
	if err != nil {
		return replica.Record{}, err
	}
	return records[0], nil
}

// replicaRecords reads the records of paths, in their order.
func (q Queries) replicaRecords(ctx context.Context, r replica.ID, keys []string, permissions *descriptors) ([]replica.Record, error) {
	records := make([]replica.Record, 0, len(keys))
	for part := range slices.Chunk(keys, bulkRows) {
		where, args := within(`r.`, part)
		found, err := q.rows(ctx, r, where, args...)
		if err != nil {
			return nil, err
		}
		known := byKey(found)
		wanted := map[string]bool{}
		for _, key := range part {
			if _, ok := known[key]; !ok {
				wanted[key] = true
			}
		}
		if len(wanted) > 0 {
			packs, err := q.packsOf(ctx, r, wanted)
			if err != nil {
				return nil, err
			}
			if err := q.unpackInto(ctx, packs, permissions, known, wanted); err != nil {
				return nil, err
			}
		}
		for _, key := range part {
			rec := known[key]
			rec.Key = key
			records = append(records, rec)
		}
	}
	return records, nil
}

func byKey(records []replica.Record) map[string]replica.Record {
	known := make(map[string]replica.Record, len(records))
	for _, rec := range records {
		known[rec.Key] = rec
	}
	return known
}

// Children lists the records of what is, or was, right in a folder, or is to come into it.
func (s *Replication) Children(ctx context.Context, r replica.ID, folder string) ([]replica.Record, error) {
	if err := s.open(ctx, r); err != nil {
		return nil, err
	}
	rows, err := s.db.often(ctx, recordColumns+` WHERE r.replica_id = ? AND r.folder = ? ORDER BY r.name_key`, r, folderOf(folder))
	records, err := collect(rows, err, scanRecord)
	if err != nil {
		return nil, err
	}
	rows, err = s.db.often(ctx, packColumns+`replica_id = ? AND folder = ? ORDER BY id`, r, folderOf(folder))
	packs, err := collect(rows, err, scanPack)
	if err != nil {
		return nil, err
	}
	if len(packs) > 0 {
		known := make(map[string]struct{}, len(records))
		for i := range records {
			known[records[i].Key] = struct{}{}
		}
		records = slices.Grow(records, entriesOf(packs))
		err := eachEntry(packs, known, nil, func(row *packRow, e *pack.Entry) (none struct{}, err error) {
			rec, err := s.db.unpack(ctx, row, e, &s.descriptors)
			records = append(records, rec)
			return none, err
		})
		if err != nil {
			return nil, err
		}
		slices.SortFunc(records, func(a, b replica.Record) int { return strings.Compare(a.Key, b.Key) })
	}
	s.begun.overlay(r, records)
	return s.begun.within(r, folder, records), nil
}

// ByFile lists the records of files and folders that had one of some numbers when last
// seen.
func (s *Replication) ByFile(ctx context.Context, r replica.ID, ids ...uint64) ([]replica.Record, error) {
	var records []replica.Record
	for part := range slices.Chunk(ids, bulkRows) {
		args := []any{replica.None}
		marks := make([]uint32, len(part))
		for i, id := range part {
			args, marks[i] = append(args, id), numberMark(id)
		}
		found, err := s.find(ctx, r, marks, func(rec *replica.Record) bool { return rec.Kind != replica.None && slices.Contains(part, rec.Seen.ID) },
			`r.kind <> ? AND r.seen_file IN (`+placeholders(len(part))+`) ORDER BY r.folder, r.name_key`, args...)
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
	found, err := s.find(ctx, r, marks{alikeMark(size, modified)}, func(rec *replica.Record) bool {
		return rec.Kind == replica.File && rec.Size == size && rec.Modified.Equal(modified) && rec.Digest.Known()
	}, `r.kind = ? AND r.size = ? AND r.modified = ? AND r.digest <> ? LIMIT ?`, replica.File, size, pack.ToNano(modified), make([]byte, len(chunk.Digest{})), mostAlike)
	return found[:min(len(found), mostAlike)], err
}

// find lists the records that are rows of some kind, and those in packs with one of
// some marks that are as is wanted.
func (s *Replication) find(ctx context.Context, r replica.ID, wanted marks, fits func(*replica.Record) bool, where string, args ...any) ([]replica.Record, error) {
	if err := s.open(ctx, r); err != nil {
		return nil, err
	}
	records, err := s.db.rows(ctx, r, where, args...)
	if err != nil {
		return nil, err
	}
	packed, err := s.findPacked(ctx, r, wanted, fits)
	if err != nil {
		return nil, err
	}
	rows := byKey(records)
	for i := range packed {
		if _, is := rows[packed[i].Key]; !is && fits(&packed[i]) {
			records = append(records, packed[i])
		}
	}
	s.begun.overlay(r, records)
	return records, nil
}

// findPacked lists the records of the paths that are as is wanted in packs, as they
// are now.
func (s *Replication) findPacked(ctx context.Context, r replica.ID, wanted marks, fits func(*replica.Record) bool) ([]replica.Record, error) {
	ids, err := s.packs.find(ctx, s.db.Queries, r, wanted...)
	if err != nil {
		return nil, err
	}
	var keys []string
	for part := range slices.Chunk(ids, mostPacks) {
		packs, err := s.db.packs(ctx, `id IN (`+placeholders(len(part))+`)`, anys(part)...)
		if err != nil {
			return nil, err
		}
		found := map[string]replica.Record{}
		if err := s.db.unpackInto(ctx, packs, &s.descriptors, found, nil); err != nil {
			return nil, err
		}
		for key, rec := range found {
			if fits(&rec) {
				keys = append(keys, key)
			}
		}
	}
	slices.Sort(keys)
	return s.db.replicaRecords(ctx, r, keys, &s.descriptors)
}

// mostPacks is how many packs are read at a time.
const mostPacks = 64

func anys[T any](list []T) []any {
	all := make([]any, len(list))
	for i, one := range list {
		all[i] = one
	}
	return all
}

// Unfinished lists the records with something pending.
func (s *Replication) Unfinished(ctx context.Context, r replica.ID) ([]replica.Record, error) {
	if err := s.open(ctx, r); err != nil {
		return nil, err
	}
	records, err := s.db.rows(ctx, r, `r.unfinished ORDER BY r.folder, r.name_key`)
	if err != nil {
		return nil, err
	}
	s.begun.overlay(r, records)
	keys := s.begun.keys(r)
	begun, err := s.Get(ctx, r, keys...)
	for _, rec := range begun {
		if rec.Pending != nil && !slices.ContainsFunc(records, func(other replica.Record) bool { return other.Key == rec.Key }) {
			records = append(records, rec)
		}
	}
	return records, err
}

// Orphans lists paths, at most limit, that are present although their folder is not.
func (s *Replication) Orphans(ctx context.Context, r replica.ID, limit int) (keys []string, err error) {
	present, inside := map[string]bool{".": true}, map[string]bool{}
	err = s.db.EachHeld(ctx, r, func(key string, folder bool, _ int64, _ time.Time) error {
		if inside[path.Dir(key)] = true; folder {
			present[key] = true
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for folder := range inside {
		if present[folder] || len(keys) >= limit {
			continue
		}
		orphans, err := s.Children(ctx, r, folder)
		if err != nil {
			return nil, err
		}
		for _, rec := range orphans {
			if rec.Kind != replica.None && len(keys) < limit {
				keys = append(keys, rec.Key)
			}
		}
	}
	slices.Sort(keys)
	return keys, nil
}

// EachHeld tells of everything that a replica holds, as far as it was seen: its
// path as names are compared, whether it is a folder, its bytes and its time. What
// is changed meanwhile may be told twice.
func (q Queries) EachHeld(ctx context.Context, r replica.ID, each func(key string, folder bool, size int64, modified time.Time) error) error {
	err := q.eachPack(ctx, r, func(packs []packRow) error {
		rows, err := q.rowsBeside(ctx, r, packs)
		if err != nil {
			return err
		}
		for _, row := range packs {
			for i := range row.Entries {
				e := &row.Entries[i]
				key := row.key(e)
				if e.Kind == replica.None || rows[key] {
					continue
				}
				if err := each(key, e.Kind == replica.Folder, e.Size, pack.FromNano(e.Modified)); err != nil {
					return err
				}
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
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
		if err := each(key, kind == replica.Folder, size, pack.FromNano(modified)); err != nil {
			return err
		}
	}
	return unavailable(rows.Err())
}
