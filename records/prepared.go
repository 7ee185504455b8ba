package records

import (
	"context"
	"database/sql"
	"strings"
	"sync"
)

// Statements that carry much are prepared: what goes with one crosses as it is. In the
// text of a statement we would have to mark it up, and the server to read it letter by
// letter.

// prepared are statements that are prepared on each connection that they are used on.
// They are closed with the pool.
type prepared struct {
	mu  sync.Mutex
	all map[string]*sql.Stmt
}

// ready prepares statements, outside of any transaction: inside of one, what is asked
// for a connection of its own could wait for others that do the same.
func (db *DB) ready(ctx context.Context, queries ...string) error {
	p := db.prepared
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, query := range queries {
		if p.all[query] != nil {
			continue
		}
		s, err := db.pool.PrepareContext(ctx, query)
		if err != nil {
			return unavailable(err)
		}
		p.all[query] = s
	}
	return nil
}

// often reads with a statement that is used again and again: the server need not find
// out each time what it means.
func (db *DB) often(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	if err := db.ready(ctx, query); err != nil {
		return nil, err
	}
	db.prepared.mu.Lock()
	s := db.prepared.all[query]
	db.prepared.mu.Unlock()
	return s.QueryContext(ctx, args...)
}

// statement is one that is ready, in the transaction.
func (tx *Tx) statement(ctx context.Context, query string) *sql.Stmt {
	tx.prepared.mu.Lock()
	s := tx.prepared.all[query]
	tx.prepared.mu.Unlock()
	return tx.on.StmtContext(ctx, s)
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
