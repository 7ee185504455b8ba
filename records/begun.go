package records

import (
	"context"
	"path"
	"slices"
	"strings"
	"sync"

	"bridgespan/core/acl"
	"bridgespan/core/replica"
	"bridgespan/records/pack"
)

// begun is what is pending at replicas and was begun by this store. In the
// database it is kept many paths to a row; here it is known by path, so that
// whoever reads a record sees it.
type begun struct {
	mu     sync.Mutex
	paths  map[replica.ID]map[string]*begunPath
	inside map[folderAt]map[string]bool // the keys of paths by the folders that they are in
	opened map[replica.ID]bool          // those whose rows of an earlier store are in the records by now
	over   []int64                      // rows of which nothing is pending any more
}

// begunPath is what was begun at a path.
type begunPath struct {
	pack.Begun
	row *begunRow
}

// begunRow is a row of the database that holds what was begun.
type begunRow struct {
	id   int64
	left int // how many of its paths are still pending
}

// overlay adds to records what was begun since they were kept.
func (b *begun) overlay(r replica.ID, records []replica.Record) {
	b.mu.Lock()
	defer b.mu.Unlock()
	paths := b.paths[r]
	if len(paths) == 0 {
		return
	}
	for i := range records {
		if p, ok := paths[records[i].Key]; ok {
			pending := *p.Pending
			records[i].Pending = &pending
		}
	}
}

// within adds to the records of what is right in a folder those of paths that have none
// yet, in the order of their keys.
func (b *begun) within(r replica.ID, folder string, records []replica.Record) []replica.Record {
	b.mu.Lock()
	defer b.mu.Unlock()
	inside := b.inside[folderAt{r, folder}]
	if len(inside) == 0 {
		return records
	}
	known := make(map[string]bool, len(records))
	for i := range records {
		known[records[i].Key] = true
	}
	for key := range inside {
		if !known[key] {
			pending := *b.paths[r][key].Pending
			records = append(records, replica.Record{Key: key, Pending: &pending})
		}
	}
	slices.SortFunc(records, func(x, y replica.Record) int { return strings.Compare(x.Key, y.Key) })
	return records
}

// keys are the paths of a replica at which something is begun.
func (b *begun) keys(r replica.ID) (keys []string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for key := range b.paths[r] {
		keys = append(keys, key)
	}
	return keys
}

// noted learns what was kept: what was begun, and what has come to its end.
func (b *begun) noted(together []*waitingChange, rows map[replica.ID]int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.paths == nil {
		b.paths = map[replica.ID]map[string]*begunPath{}
	}
	made := map[replica.ID]*begunRow{}
	for id, row := range rows {
		made[id] = &begunRow{id: row}
	}
	for _, w := range together {
		c := &w.change
		for i := range c.Records {
			b.end(c.Replica, c.Records[i].Key)
			if !c.Begun {
				continue
			}
			if b.paths[c.Replica] == nil {
				b.paths[c.Replica] = map[string]*begunPath{}
			}
			row := made[c.Replica]
			row.left++
			at := folderAt{c.Replica, path.Dir(c.Records[i].Key)}
			if b.inside == nil {
				b.inside = map[folderAt]map[string]bool{}
			}
			if b.inside[at] == nil {
				b.inside[at] = map[string]bool{}
			}
			b.inside[at][c.Records[i].Key] = true
			b.paths[c.Replica][c.Records[i].Key] = &begunPath{pack.Begun{Key: c.Records[i].Key, Pending: c.Records[i].Pending}, row}
		}
	}
}

func (b *begun) end(r replica.ID, key string) {
	p, ok := b.paths[r][key]
	if !ok {
		return
	}
	delete(b.paths[r], key)
	at := folderAt{r, path.Dir(key)}
	if delete(b.inside[at], key); len(b.inside[at]) == 0 {
		delete(b.inside, at)
	}
	if p.row.left--; p.row.left == 0 {
		b.over = append(b.over, p.row.id)
	}
}

// takeOver takes the rows of which nothing is pending any more, to be forgotten.
func (b *begun) takeOver() []int64 {
	b.mu.Lock()
	defer b.mu.Unlock()
	over := b.over
	b.over = nil
	return over
}

// giveBack takes rows back that could not be forgotten.
func (b *begun) giveBack(over []int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.over = append(b.over, over...)
}

// open puts what an earlier store left begun at a replica into its records.
func (s *Replication) open(ctx context.Context, r replica.ID) error {
	s.begun.mu.Lock()
	opened := s.begun.opened[r]
	s.begun.mu.Unlock()
	if opened {
		return nil
	}
	s.opening.Lock()
	defer s.opening.Unlock()
	s.begun.mu.Lock()
	opened = s.begun.opened[r]
	s.begun.mu.Unlock()
	if opened { // somebody did meanwhile: what is begun now is ours, and stays as it is
		return nil
	}
	err := s.db.Change(ctx, func(tx *Tx) error { return s.expand(ctx, tx, r) })
	if err == nil {
		s.begun.mu.Lock()
		if s.begun.opened == nil {
			s.begun.opened = map[replica.ID]bool{}
		}
		s.begun.opened[r] = true
		s.begun.mu.Unlock()
	}
	return err
}

// expand puts what is begun at a replica into its records, but what was noted as
// done since. Rows that this store wrote are not there yet.
func (s *Replication) expand(ctx context.Context, tx *Tx, r replica.ID) error {
	rows, err := tx.run.QueryContext(ctx, `SELECT paths FROM replica_begun WHERE replica_id = ? ORDER BY id FOR UPDATE`, r)
	list, err := collect(rows, err, func(sc scanner) (b []byte, err error) { return b, sc.Scan(&b) })
	if err != nil || len(list) == 0 {
		return err
	}
	ids := DescriptorIDs{}
	for _, content := range list {
		paths, err := pack.ReadBegun(content, func(id int64) (acl.Descriptor, error) { return s.descriptors.numbered(ctx, tx.Queries, id) })
		if err != nil {
			return err
		}
		keys := make([]string, len(paths))
		for i := range paths {
			keys[i] = paths[i].Key
		}
		records, err := tx.replicaRecords(ctx, r, keys, &s.descriptors)
		if err != nil {
			return err
		}
		var changed bulk
		for i := range records {
			if done(&records[i], paths[i].Pending) {
				continue
			}
			records[i].Pending = paths[i].Pending
			row, err := tx.replicaRow(ctx, r, &records[i], ids)
			if err != nil {
				return err
			}
			changed.add(row...)
		}
		if err := changed.replacing(ctx, tx, replicaColumns); err != nil {
			return err
		}
	}
	_, _, err = tx.exec(ctx, `DELETE FROM replica_begun WHERE replica_id = ?`, r)
	return err
}

// done reports whether a record has all that is pending, and maybe more.
func done(rec *replica.Record, p *replica.Pending) bool {
	has := func(v, w replica.Vector) bool {
		order := v.Compare(w)
		return order == replica.Equal || order == replica.After
	}
	return rec.Pending != nil || has(rec.Version, p.Content.Version) && has(rec.Permissions.Version, p.Permissions.Version)
}

// keepBegun writes what changes begin, one row for each replica, and returns
// their numbers.
func keepBegun(ctx context.Context, tx *Tx, together []*waitingChange, ids DescriptorIDs) (map[replica.ID]int64, error) {
	begun := map[replica.ID][]pack.Begun{}
	for _, w := range together {
		if w.change.Begun {
			for i := range w.change.Records {
				rec := &w.change.Records[i]
				begun[w.change.Replica] = append(begun[w.change.Replica], pack.Begun{Key: rec.Key, Pending: rec.Pending})
			}
		}
	}
	rows := map[replica.ID]int64{}
	for r, list := range begun {
		content, err := pack.AllBegun(list, ids.numbers(ctx, tx.Queries))
		if err != nil {
			return nil, err
		}
		made, err := tx.statement(ctx, beginStatement).ExecContext(ctx, r, content)
		if err != nil {
			return nil, unavailable(err)
		}
		if rows[r], err = made.LastInsertId(); err != nil {
			return nil, err
		}
	}
	return rows, nil
}

// forgetBegun removes rows of which nothing is pending any more.
func forgetBegun(ctx context.Context, tx *Tx, rows []int64) error {
	if len(rows) == 0 {
		return nil
	}
	args := make([]any, len(rows))
	for i, id := range rows {
		args[i] = id
	}
	_, _, err := tx.exec(ctx, `DELETE FROM replica_begun WHERE id IN (`+placeholders(len(rows))+`)`, args...)
	return err
}
