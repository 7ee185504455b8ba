package records

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"maps"
	"path"
	"sync"
	"time"

	"bridgespan/core/replica"
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
	var packs []markedPack
	over := s.begun.takeOver()
	err := s.db.Change(ctx, func(tx *Tx) error {
		s.mu.Lock()
		ids = maps.Clone(s.ids) // what this attempt stores is known only once it is kept
		s.mu.Unlock()
		var records, queued, kept bulk
		var parts packing
		for _, w := range together {
			c := &w.change
			for i := range c.Records {
				if !c.Begun {
					parts.add(c.Replica, &c.Records[i])
				}
			}
			for _, k := range c.Kept {
				kept.add(c.Replica, time.Now().UTC(), []byte(k.Path), []byte(k.Attic), k.Why, k.Size)
			}
		}
		if err := parts.part(ctx, tx.Queries); err != nil {
			return err
		}
		for _, row := range parts.rows {
			values, err := tx.replicaRow(ctx, row.replica, row.rec, ids)
			if err != nil {
				return err
			}
			records.add(values...)
		}
		if err := queueAll(ctx, tx, &queued, together); err != nil {
			return err
		}
		var err error
		if packs, err = tx.keepPacks(ctx, &parts, ids); err != nil {
			return err
		}
		if rows, err = keepBegun(ctx, tx, together, ids); err != nil {
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
		s.packs.noted(packs)
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
		rec.Size, pack.ToNano(rec.Modified), rec.Digest[:], pack.ToNano(rec.Changed), rec.By, []byte(rec.Moved),
		rec.Permissions.Version.String(), descriptor, rec.Permissions.Attributes, pack.ToNano(rec.Permissions.Changed), rec.Permissions.By,
		rec.Seen.Size, pack.ToNano(rec.Seen.Modified), rec.Seen.ID, seen, rec.Seen.Attributes, pending}, nil
}
