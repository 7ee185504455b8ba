package records

import (
	"context"
	"database/sql"
	"errors"
	"time"
)

// Lease is the right to do one kind of work until it expires. Every new holder gets a higher
// fencing number, so that late writes of a former holder are refused, see [Under].
type Lease struct {
	Name, Holder string
	Fencing      int64
}

// Acquire takes a lease that nobody holds. It uses a conditional UPDATE and its row count,
// which are valid on all nodes of a cluster; named locks are not.
func (db *DB) Acquire(ctx context.Context, name, holder string, length time.Duration) (Lease, bool, error) {
	if _, _, err := db.exec(ctx, `INSERT IGNORE INTO leases (name, holder, fencing, expires) VALUES (?, '', 0, '2000-01-01')`, name); err != nil {
		return Lease{}, false, err
	}
	rows, _, err := db.exec(ctx, `UPDATE leases SET holder = ?, fencing = fencing + 1, expires = UTC_TIMESTAMP(6) + INTERVAL ? MICROSECOND
		WHERE name = ? AND expires < UTC_TIMESTAMP(6)`, holder, length.Microseconds(), name)
	if err != nil || rows == 0 {
		return Lease{}, false, err
	}
	lease := Lease{Name: name, Holder: holder}
	err = db.run.QueryRowContext(ctx, `SELECT fencing FROM leases WHERE name = ? AND holder = ?`, name, holder).Scan(&lease.Fencing)
	return lease, err == nil, unavailable(err)
}

// Renew extends a lease. It returns ErrTakenOver when another holder has taken it.
func (db *DB) Renew(ctx context.Context, lease Lease, length time.Duration) error {
	rows, _, err := db.exec(ctx, `UPDATE leases SET expires = UTC_TIMESTAMP(6) + INTERVAL ? MICROSECOND WHERE name = ? AND holder = ? AND fencing = ?`,
		length.Microseconds(), lease.Name, lease.Holder, lease.Fencing)
	if err == nil && rows == 0 {
		err = ErrTakenOver
	}
	return err
}

// RenewAll extends several leases and returns those that it extended. It skips leases of other holders, and
// rows that another transaction has locked: it never waits, so a slow transaction under one lease does not
// delay the others.
func (db *DB) RenewAll(ctx context.Context, leases []Lease, length time.Duration) (renewed map[Lease]bool, err error) {
	err = db.Change(ctx, func(tx *Tx) error {
		renewed, err = tx.lockFree(ctx, leases)
		if err != nil || len(renewed) == 0 {
			return err
		}
		args := []any{length.Microseconds()}
		for l := range renewed {
			args = append(args, l.Name)
		}
		_, _, err := tx.exec(ctx, `UPDATE leases SET expires = UTC_TIMESTAMP(6) + INTERVAL ? MICROSECOND WHERE name IN (`+placeholders(len(renewed))+`)`, args...)
		return err
	})
	return renewed, err
}

// lockFree locks the rows that no other transaction has locked, and returns their leases.
func (tx *Tx) lockFree(ctx context.Context, leases []Lease) (map[Lease]bool, error) {
	locked, wanted := map[Lease]bool{}, map[Lease]bool{}
	names := make([]any, len(leases))
	for i, l := range leases {
		names[i], wanted[l] = l.Name, true
	}
	rows, err := tx.run.QueryContext(ctx, `SELECT name, holder, fencing FROM leases WHERE name IN (`+placeholders(len(names))+`) FOR UPDATE SKIP LOCKED`, names...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var l Lease
		if err := rows.Scan(&l.Name, &l.Holder, &l.Fencing); err != nil {
			return nil, err
		}
		if wanted[l] {
			locked[l] = true
		}
	}
	return locked, rows.Err()
}

// Release gives a lease back.
func (db *DB) Release(ctx context.Context, lease Lease) error {
	_, _, err := db.exec(ctx, `UPDATE leases SET expires = UTC_TIMESTAMP(6) - INTERVAL 1 SECOND WHERE name = ? AND holder = ? AND fencing = ?`, lease.Name, lease.Holder, lease.Fencing)
	return err
}

func (db *DB) awaitLease(ctx context.Context, name, holder string, length time.Duration) (Lease, error) {
	for {
		lease, ok, err := db.Acquire(ctx, name, holder, length)
		if err != nil || ok {
			return lease, err
		}
		select {
		case <-ctx.Done():
			return Lease{}, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// ErrTakenOver: another holder has taken the lease and does the work.
var ErrTakenOver = errors.New("the work was taken over by another instance of the service")

type leaseKey struct{}

// Under returns a context for work under a lease. Writes with it fail with ErrTakenOver once another
// holder has the lease. Reads do not fail.
func Under(ctx context.Context, lease Lease) context.Context {
	return context.WithValue(ctx, leaseKey{}, lease)
}

// checkLease returns ErrTakenOver when ctx belongs to a lease that another holder has
// taken. It locks the row: nobody can take the lease over until the transaction ends.
func checkLease(ctx context.Context, tx *sql.Tx) error {
	lease, ok := ctx.Value(leaseKey{}).(Lease)
	if !ok {
		return nil
	}
	var fencing int64
	err := tx.QueryRowContext(ctx, `SELECT fencing FROM leases WHERE name = ? LOCK IN SHARE MODE`, lease.Name).Scan(&fencing)
	if errors.Is(err, sql.ErrNoRows) || err == nil && fencing != lease.Fencing {
		return ErrTakenOver
	}
	return err
}

// pool is the database. It runs writes under a lease in a transaction.
type pool struct{ *sql.DB }

func (p pool) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	if _, ok := ctx.Value(leaseKey{}).(Lease); !ok {
		return p.DB.ExecContext(ctx, query, args...)
	}
	tx, err := p.BeginTx(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer tx.Rollback()
	if err := checkLease(ctx, tx); err != nil {
		return nil, err
	}
	result, err := tx.ExecContext(ctx, query, args...)
	if err == nil {
		err = tx.Commit()
	}
	return result, err
}
