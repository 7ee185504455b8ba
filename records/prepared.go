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
