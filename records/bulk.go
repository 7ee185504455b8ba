package records

import (
	"context"
	"database/sql"
	"slices"
	"strings"
	"sync"

	"bridgespan/core/changes"
	"bridgespan/core/namespace"
	"bridgespan/model"
)

// bulkRows is how many rows one statement adds.
const bulkRows = 500

// AddEntries adds many entries with their locations, none of which may be there
// yet, and returns them with their numbers. The folders above must be there or
// among them.
func (tx *Tx) AddEntries(ctx context.Context, name string, entries []namespace.Entry) ([]namespace.Entry, error) {
	var space int64
	if err := tx.run.QueryRowContext(ctx, `SELECT id FROM namespaces WHERE name = ?`, name).Scan(&space); err != nil {
		return nil, unavailable(err)
	}
	servers, err := tx.serverIDs(ctx)
	if err != nil {
		return nil, err
	}
	for first := 0; first < len(entries); first += bulkRows {
		part := entries[first:min(first+bulkRows, len(entries))]
		if err := tx.addEntryRows(ctx, name, space, part); err != nil {
			return nil, err
		}
		if err := tx.addLocationRows(ctx, servers, part); err != nil {
			return nil, err
		}
	}
	return entries, nil
}

func (tx *Tx) serverIDs(ctx context.Context) (map[string]int64, error) {
	type server struct {
		key string
		id  int64
	}
	rows, err := tx.run.QueryContext(ctx, `SELECT name_key, id FROM servers`)
	list, err := collect(rows, err, func(s scanner) (v server, err error) { return v, s.Scan(&v.key, &v.id) })
	ids := map[string]int64{}
	for _, v := range list {
		ids[v.key] = v.id
	}
	return ids, err
}

func (tx *Tx) addEntryRows(ctx context.Context, name string, space int64, part []namespace.Entry) error {
	var args []any
	keys := make([]any, 0, len(part)+1)
	keys = append(keys, space)
	for _, e := range part {
		key := []byte(namespace.Key(e.Path))
		args = append(args, space, []byte(e.Path), key, e.Kind, e.Note, e.TTL, e.Letter)
		keys = append(keys, key)
	}
	row := "(?, ?, ?, ?, ?, ?, ?)"
	if _, _, err := tx.exec(ctx, `INSERT INTO entries (namespace_id, path, path_key, kind, note, ttl, letter) VALUES `+row+strings.Repeat(", "+row, len(part)-1), args...); err != nil {
		return taken(err, "path", "entry", "/"+name+"/"+part[0].Path+" or one after it")
	}
	type made struct {
		key []byte
		id  int64
	}
	rows, err := tx.run.QueryContext(ctx, `SELECT path_key, id FROM entries WHERE namespace_id = ? AND path_key IN (`+placeholders(len(part))+`)`, keys...)
	list, err := collect(rows, err, func(s scanner) (m made, err error) { return m, s.Scan(&m.key, &m.id) })
	ids := map[string]int64{}
	for _, m := range list {
		ids[string(m.key)] = m.id
	}
	for i := range part {
		part[i].ID, part[i].Version = ids[namespace.Key(part[i].Path)], 1
	}
	return err
}

func (tx *Tx) addLocationRows(ctx context.Context, servers map[string]int64, part []namespace.Entry) error {
	var args []any
	count := 0
	for _, e := range part {
		// Locations for some sites alone have rows elsewhere; they are rare.
		byOne := slices.ContainsFunc(e.Locations, func(l namespace.Location) bool { return len(l.OnlyFor) > 0 })
		for _, l := range e.Locations {
			if byOne {
				if err := tx.AddLocation(ctx, e.ID, l); err != nil {
					return err
				}
				continue
			}
			id, known := servers[namespace.Key(l.Server)]
			if !known { // it was removed since it was tried
				return notFound("server", l.Server, "list the servers with: bspan server list")
			}
			args = append(args, e.ID, id, l.Share, []byte(l.Sub), l.Set, l.SetWhy, l.Rank, max(l.Weight, 1))
			count++
		}
	}
	if count == 0 {
		return nil
	}
	row := "(?, ?, ?, ?, ?, ?, ?, ?)"
	_, _, err := tx.exec(ctx, `INSERT INTO locations (entry_id, server_id, share, sub, state, why, placement, weight) VALUES `+row+strings.Repeat(", "+row, count-1), args...)
	return err
}

// RecordAll writes many changes, and tells everybody who watches the topic once.
func (q Queries) RecordAll(ctx context.Context, list []model.Change, topic, subject string) error {
	for first := 0; first < len(list); first += bulkRows {
		part := list[first:min(first+bulkRows, len(list))]
		var args []any
		for _, c := range part {
			before, err := state(c.Before)
			if err != nil {
				return err
			}
			after, err := state(c.After)
			if err != nil {
				return err
			}
			if r := rehearsalIn(ctx); r != nil {
				was, _ := before.([]byte)
				is, _ := after.([]byte)
				c.Words = append([]string{}, changes.Words(was, is)...)
				r.add(c)
			}
			args = append(args, c.At, c.Who, c.Action, c.Subject, before, after)
		}
		row := "(?, ?, ?, ?, ?, ?)"
		if _, _, err := q.exec(ctx, `INSERT INTO changes (at, who, action, subject, before_state, after_state) VALUES `+row+strings.Repeat(", "+row, len(part)-1), args...); err != nil {
			return err
		}
	}
	if len(list) == 0 {
		return nil
	}
	return q.tell(ctx, topic, subject, true, list[0].At)
}

// bulk gathers the rows of many statements.
type bulk struct{ parts []*values }

func (b *bulk) add(row ...any) {
	if n := len(b.parts); n == 0 || len(b.parts[n-1].args) >= bulkRows*len(row) {
		b.parts = append(b.parts, &values{})
	}
	b.parts[len(b.parts)-1].add(row...)
}

// replacing inserts the rows, or puts them in the place of those with their keys.
func (b *bulk) replacing(ctx context.Context, tx *Tx, table string) error {
	for _, part := range b.parts {
		if err := part.replacing(ctx, tx, table); err != nil {
			return err
		}
	}
	return nil
}

// updating inserts the rows, or changes those with their keys.
func (b *bulk) updating(ctx context.Context, tx *Tx, table, change string) error {
	for _, part := range b.parts {
		if _, _, err := tx.exec(ctx, `INSERT INTO `+table+` VALUES `+part.places.String()+` ON DUPLICATE KEY UPDATE `+change, part.args...); err != nil {
			return err
		}
	}
	return nil
}

// Statements that carry much are prepared: what goes with one crosses as it is. In the
// text of a statement we would have to mark it up, and the server to read it letter by
// letter.

// prepared are statements that are prepared on each connection that they are used on.
// They are closed with the pool.
type prepared struct {
	mu  sync.Mutex
	all map[string]*sql.Stmt
}

// ready is a statement that is prepared, if need be now: outside of any transaction,
// since what is asked for a connection of its own inside of one could wait for others
// that do the same.
func (db *DB) ready(ctx context.Context, query string) (*sql.Stmt, error) {
	if s := db.prepared.get(query); s != nil {
		return s, nil
	}
	s, err := db.pool.PrepareContext(ctx, query) // nobody waits for that who need not
	if err != nil {
		return nil, unavailable(err)
	}
	db.prepared.mu.Lock()
	defer db.prepared.mu.Unlock()
	if other := db.prepared.all[query]; other != nil { // somebody was quicker
		return other, s.Close()
	}
	db.prepared.all[query] = s
	return s, nil
}

func (p *prepared) get(query string) *sql.Stmt {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.all[query]
}

// readyToKeep prepares the statements that keep changes.
func (db *DB) readyToKeep(ctx context.Context) error {
	for _, query := range keepingStatements {
		if _, err := db.ready(ctx, query); err != nil {
			return err
		}
	}
	return nil
}

// often reads with a statement that is used again and again: the server need not find
// out each time what it means.
func (db *DB) often(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	s, err := db.ready(ctx, query)
	if err != nil {
		return nil, err
	}
	return s.QueryContext(ctx, args...)
}

// statement is one that is ready, in the transaction.
func (tx *Tx) statement(ctx context.Context, query string) *sql.Stmt {
	return tx.on.StmtContext(ctx, tx.prepared.get(query))
}

// packCounts are of how many rows there are statements that add packs.
var packCounts = [...]int{64, 16, 4, 1}

const beginStatement = `INSERT INTO replica_begun (replica_id, paths) VALUES (?, ?)`

// packStatement adds so many packs, and returns their numbers.
func packStatement(rows int) string {
	const row = `(?, ?, ?, ?, ?, ?, ?, ?, ?)`
	return `INSERT INTO replica_packs (replica_id, folder, first_name, last_name, path, entries, bytes, marks, content) VALUES ` + row + strings.Repeat(`, `+row, rows-1) + ` RETURNING id`
}

// keepingStatements are those that keep changes.
var keepingStatements = func() []string {
	all := []string{beginStatement}
	for _, n := range packCounts {
		all = append(all, packStatement(n))
	}
	return all
}()
