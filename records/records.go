// Package records keeps Bridge Span's records in MariaDB through database/sql.
// SQL lives here and nowhere else.
//
// [DB] offers the queries directly and, in [DB.Change], inside a transaction
// that is tried again when the database asks for that. Names are looked up
// without regard to case. What is missing, taken, stale or still needed comes
// back as a fault of package core/fault.
package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"

	"bridgespan/core/fault"
	"bridgespan/model"
)

// DB is an open database.
type DB struct {
	Queries
	pool     pool
	prepared *prepared
}

// Queries are the reads and writes of this package, on a database or inside a transaction.
type Queries struct{ run runner }

type runner interface {
	ExecContext(context.Context, string, ...any) (sql.Result, error)
	QueryContext(context.Context, string, ...any) (*sql.Rows, error)
	QueryRowContext(context.Context, string, ...any) *sql.Row
}

// mostConnections is how many connections there are at a time.
const mostConnections = 32

// Open prepares a database; it does not connect before the first query.
func Open(dsn string) (*DB, error) {
	config, err := mysql.ParseDSN(dsn)
	if err != nil {
		return nil, fault.Field("database", "write user:password@tcp(host:port)/name", "the data source name is malformed").Because(err)
	}
	config.Logger = driverLog{}
	config.ParseTime, config.Loc, config.InterpolateParams = true, time.UTC, true
	// An UPDATE counts the rows that it found, so that "unchanged" and "stale" are told apart.
	config.ClientFoundRows = true
	// An instance that stands still in a transaction would keep its locks, and others from
	// taking over its work: the server ends such a transaction (MariaDB, idle_transaction_timeout, in seconds).
	config.Params = map[string]string{"time_zone": "'+00:00'", "sql_mode": "'STRICT_ALL_TABLES,NO_ZERO_DATE'", "idle_transaction_timeout": "5"}
	config.Timeout, config.ReadTimeout, config.WriteTimeout = 5*time.Second, 60*time.Second, 60*time.Second
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, err
	}
	pool := pool{sql.OpenDB(connector)}
	pool.SetMaxOpenConns(mostConnections)
	pool.SetMaxIdleConns(mostConnections) // statements are prepared anew on each new one
	pool.SetConnMaxIdleTime(time.Minute)
	return &DB{Queries{pool}, pool, &prepared{all: map[string]*sql.Stmt{}}}, nil
}

// driverLog takes what the driver says of broken connections: each is also an
// error of the query that met it, so that here it is only a detail.
type driverLog struct{}

func (driverLog) Print(v ...any) { slog.Debug("database driver", "says", fmt.Sprint(v...)) }

// Close closes all connections.
func (db *DB) Close() error { return db.pool.Close() }

// Ping reports whether the database answers.
func (db *DB) Ping(ctx context.Context) error { return unavailable(db.pool.PingContext(ctx)) }

// Tx is a transaction.
type Tx struct {
	Queries
	on       *sql.Tx
	prepared *prepared
}

// attempts bounds how often a transaction is tried when the database ends it
// for the sake of another one.
const attempts = 8

// Change runs do inside a transaction and commits when it returns nil. do may
// run several times; it must have no effects outside of tx.
func (db *DB) Change(ctx context.Context, do func(tx *Tx) error) error {
	return again(ctx, func() error { return db.try(ctx, do) })
}

// again runs do until the database does not end it for the sake of another transaction.
func again(ctx context.Context, do func() error) error {
	for attempt := 1; ; attempt++ {
		err := do()
		if err == nil || attempt == attempts || !retryable(err) {
			return unavailable(err)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(attempt) * 10 * time.Millisecond):
		}
	}
}

func (db *DB) try(ctx context.Context, do func(tx *Tx) error) error {
	tx, err := db.pool.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := checkLease(ctx, tx); err != nil {
		return err
	}
	rehearsal := rehearsalIn(ctx)
	if rehearsal == nil {
		if err := do(&Tx{Queries{tx}, tx, db.prepared}); err != nil {
			return err
		}
		return tx.Commit()
	}
	told := len(rehearsal.Changes())
	if err := do(&Tx{Queries{tx}, tx, db.prepared}); err != nil {
		rehearsal.backTo(told)
		return err
	}
	return nil // it would have worked; it is taken back
}

// Server error numbers of MariaDB that are told apart.
const (
	errDuplicate    = 1062
	errDeadlock     = 1213
	errLockTimeout  = 1205
	errNotPrepared  = 1047 // a cluster node that may not answer now
	errStillNeeded  = 1451
	errAccessDenied = 1045
)

func number(err error) uint16 {
	var e *mysql.MySQLError
	if errors.As(err, &e) {
		return e.Number
	}
	return 0
}

func retryable(err error) bool {
	n := number(err)
	return n == errDeadlock || n == errLockTimeout || n == errNotPrepared
}

// unavailable gives an error of the connection the kind that callers wait and retry on.
func unavailable(err error) error {
	var network net.Error
	n := number(err)
	switch {
	case err == nil || fault.KindOf(err) != 0:
		return err
	case errors.As(err, &network), errors.Is(err, mysql.ErrInvalidConn), errors.Is(err, sql.ErrConnDone),
		n == errDeadlock, n == errLockTimeout, n == errNotPrepared, n == errAccessDenied,
		n == 1053, n == 1040, n == 1927: // shutting down, too many connections, connection killed
		return fault.New(fault.Unavailable, "try again in a moment; if it lasts, look at the database server", "the database does not answer").Because(err)
	}
	return err
}

// exec runs one statement and returns how many rows it found, and the new row's number. A statement that is a transaction of its own is tried
// again like others.
func (q Queries) exec(ctx context.Context, query string, args ...any) (rows, id int64, err error) {
	var result sql.Result
	once := func() (err error) {
		result, err = q.run.ExecContext(ctx, query, args...)
		return err
	}
	if _, within := q.run.(*sql.Tx); within {
		err = unavailable(once())
	} else {
		err = again(ctx, once)
	}
	if err != nil {
		return 0, 0, err
	}
	if rows, err = result.RowsAffected(); err != nil {
		return 0, 0, err
	}
	id, err = result.LastInsertId()
	return rows, id, err
}

// expectVersion runs an update or deletion that is conditional on a version,
// and returns a Stale fault when no row was found.
func (q Queries) expectVersion(ctx context.Context, what string, query string, args ...any) error {
	rows, _, err := q.exec(ctx, query, args...)
	if err == nil && rows == 0 {
		return fault.New(fault.Stale, "read it again and repeat your change on what is there now", "%s was changed or removed by somebody else", what)
	}
	return err
}

// collect reads all rows of a query.
func collect[T any](rows *sql.Rows, err error, scan func(scanner) (T, error)) ([]T, error) {
	if err != nil {
		return nil, unavailable(err)
	}
	defer rows.Close()
	list := []T{}
	for rows.Next() {
		item, err := scan(rows)
		if err != nil {
			return nil, err
		}
		list = append(list, item)
	}
	return list, unavailable(rows.Err())
}

type scanner interface{ Scan(...any) error }

// one reads one row; missing is the error when there is none.
func one[T any](row *sql.Row, scan func(scanner) (T, error), missing error) (T, error) {
	item, err := scan(row)
	if errors.Is(err, sql.ErrNoRows) {
		return item, missing
	}
	return item, unavailable(err)
}

func notFound(what, name, remedy string) error {
	return fault.New(fault.NotFound, remedy, "no %s is called %q", what, name)
}

func taken(err error, field, what, name string) error {
	if number(err) == errDuplicate {
		return (&fault.Error{Kind: fault.Taken, Field: field, Remedy: "choose another name",
			Problem: fmt.Sprintf("a %s is called %q already (names that differ only in case count as the same)", what, name)}).Because(err)
	}
	return err
}

// Page asks for a part of a list.
type Page struct {
	After string // key of the last item already seen; "" for the first page
	Limit int
}

// All asks for a whole list that is known to be short.
var All = Page{Limit: 1 << 30}

// Rehearsal gathers the changes that would be recorded: under it every
// transaction is carried out whole, checks and all, and then taken back.
type Rehearsal struct {
	mu      sync.Mutex
	changes []model.Change
}

type rehearsalKey struct{}

// Rehearse returns a context in which nothing is kept.
func Rehearse(ctx context.Context) (context.Context, *Rehearsal) {
	r := &Rehearsal{}
	return context.WithValue(ctx, rehearsalKey{}, r), r
}

// Changes are what would have been changed, in order.
func (r *Rehearsal) Changes() []model.Change {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.changes
}

// Rehearsing reports whether changes are only rehearsed: then nothing outside of
// the records may be changed either.
func Rehearsing(ctx context.Context) bool { return rehearsalIn(ctx) != nil }

func rehearsalIn(ctx context.Context) *Rehearsal {
	r, _ := ctx.Value(rehearsalKey{}).(*Rehearsal)
	return r
}

// backTo drops what a transaction told that failed, or is tried again.
func (r *Rehearsal) backTo(told int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.changes = r.changes[:told]
}

func (r *Rehearsal) add(c model.Change) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.changes = append(r.changes, c)
}
