package records

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"maps"
	"path"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"bridgespan/core/chunk"
	"bridgespan/core/replica"
	"bridgespan/guard"
	"bridgespan/records/pack"
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
	// MostLists is how many bytes the lists of chunks may take. Zero means 256 MiB.
	MostLists int64

	listsKept atomic.Int64

	begun   begun
	opening sync.Mutex

	descriptors descriptors
	packs       packFinder
}

// Replication returns the store of the replication engine.
func (db *DB) Replication() *Replication { return &Replication{db: db, ids: DescriptorIDs{}} }

// folderOf is the form in which the folder of a path is a key. Two folders with
// one form would be taken for one; with 128 bits of SHA-256 that does not happen.
func folderOf(folder string) []byte {
	sum := sha256.Sum256([]byte(folder))
	return sum[:16]
}

// Save keeps a change, all of it or nothing. Changes that are saved at the same
// time are kept together: each would wait for the disk alone. When ctx ends before
// the change is taken up, it is withdrawn; after that Save waits for the outcome.
// A change that was kept after its Save had returned would overwrite later ones.
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
		guard.Go(func() { s.keepWaiting(context.WithoutCancel(ctx)) })
	}
	select {
	case err := <-mine.kept:
		return err
	case <-ctx.Done():
		if s.withdraw(mine) {
			return ctx.Err()
		}
		return <-mine.kept
	}
}

// withdraw takes a change back; false when it was taken up already.
func (s *Replication) withdraw(w *waitingChange) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	i := slices.Index(s.waiting, w)
	if i >= 0 {
		s.waiting = slices.Delete(slices.Clone(s.waiting), i, i+1) // others may hold parts of it
	}
	return i >= 0
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
	keep := func(changes ...*waitingChange) error {
		return guard.Call(func() error { return s.keep(ctx, changes...) })
	}
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
		if err := keep(together...); err == nil || len(together) == 1 {
			for _, w := range together {
				w.kept <- err
			}
			continue
		}
		for _, w := range together { // one of them may be what does not go
			w.kept <- keep(w)
		}
	}
}

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

// usualMostLists is how many bytes the lists of chunks may take: those of some 120 GB
// of contents.
const usualMostLists = 256 << 20

// longestList is how many bytes a list may take for the database to take it: that of
// some 1.3 TB of one content.
const longestList = 12 << 20

// The lists are counted after so many were kept, and so many go at a time.
const (
	countListsEvery = 64
	listsAtOnce     = 100
)

const (
	listStatement     = `SELECT content FROM chunk_lists WHERE digest = ?`
	keepListStatement = `INSERT INTO chunk_lists (digest, kept, bytes, content) VALUES (?, ?, ?, ?)
	ON DUPLICATE KEY UPDATE kept = VALUES(kept), bytes = VALUES(bytes), content = VALUES(content)`
)

// Chunks returns what a content is made of, as far as that is kept; else a list
// without chunks.
func (s *Replication) Chunks(ctx context.Context, d chunk.Digest) (l chunk.List, err error) {
	rows, err := s.db.often(ctx, listStatement, d[:])
	forms, err := collect(rows, err, func(s scanner) (form []byte, err error) {
		err = s.Scan(&form)
		return form, err
	})
	if err != nil || len(forms) == 0 {
		return l, err
	}
	if err := l.UnmarshalBinary(forms[0]); err != nil || l.Digest != d {
		return chunk.List{}, nil // of another version: as if it were not kept
	}
	return l, nil
}

// KeepChunks keeps what a content is made of, unless that is longer than any list that
// is kept. When there is no room for all, what was kept first goes.
func (s *Replication) KeepChunks(ctx context.Context, l chunk.List) error {
	form, err := l.AppendBinary(nil)
	if err != nil || len(form) > longestList {
		return err
	}
	if _, err := s.db.ready(ctx, keepListStatement); err != nil {
		return err
	}
	err = s.db.Change(ctx, func(tx *Tx) error {
		_, err := tx.statement(ctx, keepListStatement).ExecContext(ctx, l.Digest[:], time.Now().UTC(), len(form), form)
		return unavailable(err)
	})
	if err == nil && s.listsKept.Add(1)%countListsEvery == 1 {
		err = s.forgetLists(ctx)
	}
	return err
}

// forgetLists makes room: the oldest lists go.
func (s *Replication) forgetLists(ctx context.Context) error {
	var all int64
	if err := s.db.run.QueryRowContext(ctx, `SELECT COALESCE(SUM(bytes), 0) FROM chunk_lists`).Scan(&all); err != nil {
		return unavailable(err)
	}
	for over := all - cmp.Or(s.MostLists, usualMostLists); over > 0; {
		rows, err := s.db.run.QueryContext(ctx, `SELECT digest, bytes FROM chunk_lists ORDER BY kept LIMIT ?`, listsAtOnce)
		oldest, err := collect(rows, err, func(s scanner) (k keptList, err error) {
			err = s.Scan(&k.digest, &k.bytes)
			return k, err
		})
		if err != nil || len(oldest) == 0 {
			return err
		}
		var digests []any
		for _, k := range oldest {
			if over > 0 {
				digests = append(digests, k.digest)
				over -= k.bytes
			}
		}
		if err := s.db.Change(ctx, func(tx *Tx) error {
			_, _, err := tx.exec(ctx, `DELETE FROM chunk_lists WHERE digest IN (`+placeholders(len(digests))+`)`, digests...)
			return err
		}); err != nil {
			return err
		}
	}
	return nil
}

type keptList struct {
	digest []byte
	bytes  int64
}

// keep keeps changes, all of them or none.
func (s *Replication) keep(ctx context.Context, together ...*waitingChange) error {
	for _, w := range together {
		if err := s.open(ctx, w.change.Replica); err != nil {
			return err
		}
	}
	if err := s.db.readyToKeep(ctx); err != nil {
		return err
	}
	k := &keeping{together: together, over: s.begun.takeOver()}
	err := s.db.Change(ctx, func(tx *Tx) error {
		s.mu.Lock()
		k.ids = maps.Clone(s.ids) // what this attempt stores is known only once it is kept
		s.mu.Unlock()
		return k.all(ctx, tx)
	})
	if err != nil {
		s.begun.giveBack(k.over)
		return err
	}
	s.mu.Lock()
	s.ids = k.ids
	s.mu.Unlock()
	s.begun.noted(together, k.begun)
	s.packs.noted(k.packs)
	return nil
}

// keeping keeps changes in one transaction.
type keeping struct {
	together []*waitingChange
	over     []int64 // rows of which nothing is pending any more
	ids      DescriptorIDs

	// What came of it: the packs, and for each replica the row of what is begun there.
	packs []markedPack
	begun map[replica.ID]int64
}

func (k *keeping) all(ctx context.Context, tx *Tx) (err error) {
	if err := k.records(ctx, tx); err != nil {
		return err
	}
	if k.begun, err = keepBegun(ctx, tx, k.together, k.ids); err != nil {
		return err
	}
	if err := forgetBegun(ctx, tx, k.over); err != nil {
		return err
	}
	if err := queueAll(ctx, tx, k.together); err != nil {
		return err
	}
	return k.attic(ctx, tx)
}

// records keeps records, in packs and as rows.
func (k *keeping) records(ctx context.Context, tx *Tx) (err error) {
	var parts packing
	for _, w := range k.together {
		for i := range w.change.Records {
			if !w.change.Begun {
				parts.add(w.change.Replica, &w.change.Records[i])
			}
		}
	}
	if err := parts.part(ctx, tx.Queries); err != nil {
		return err
	}
	var rows bulk
	for _, row := range parts.rows {
		values, err := tx.replicaRow(ctx, row.replica, row.rec, k.ids)
		if err != nil {
			return err
		}
		rows.add(values...)
	}
	if k.packs, err = tx.keepPacks(ctx, &parts, k.ids); err != nil {
		return err
	}
	return rows.replacing(ctx, tx, replicaColumns)
}

// attic keeps what replicas have put into their attics, and adds that up.
func (k *keeping) attic(ctx context.Context, tx *Tx) error {
	var rows bulk
	type figures struct{ items, conflicts, bytes int64 }
	more := map[replica.ID]*figures{}
	at := time.Now().UTC()
	for _, w := range k.together {
		for _, kept := range w.change.Kept {
			had, err := k.ids.number(ctx, tx.Queries, kept.Descriptor)
			if err != nil {
				return err
			}
			rows.add(w.change.Replica, at, []byte(kept.Path), []byte(kept.Attic), kept.Why, kept.Size, had)
			f := more[w.change.Replica]
			if f == nil {
				f = &figures{}
				more[w.change.Replica] = f
			}
			f.items, f.bytes = f.items+1, f.bytes+kept.Size
			if kept.Why == replica.Lost {
				f.conflicts++
			}
		}
	}
	for _, id := range slices.Sorted(maps.Keys(more)) {
		f := more[id]
		if _, _, err := tx.exec(ctx, `UPDATE replicas SET attic_items = attic_items + ?, attic_conflicts = attic_conflicts + ?, attic_bytes = attic_bytes + ?, attic_conflict_at = IF(?, ?, attic_conflict_at) WHERE id = ?`,
			f.items, f.conflicts, f.bytes, f.conflicts > 0, at, id); err != nil {
			return err
		}
	}
	return rows.replacing(ctx, tx, `replica_attic (replica_id, at, path, attic, why, size, descriptor_id)`)
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
		rec.Size, pack.ToNano(rec.Modified), rec.Digest[:], pack.ToNano(rec.Changed), rec.By, []byte(rec.Moved),
		rec.Permissions.Version.String(), descriptor, rec.Permissions.Attributes, pack.ToNano(rec.Permissions.Changed), rec.Permissions.By,
		rec.Seen.Size, pack.ToNano(rec.Seen.Modified), rec.Seen.ID, seen, rec.Seen.Attributes, pending}, nil
}
