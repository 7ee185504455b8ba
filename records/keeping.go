package records

import (
	"context"
	"encoding/json"
	"maps"
	"path"
	"slices"
	"time"

	"bridgespan/core/replica"
	"bridgespan/records/pack"
)

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
