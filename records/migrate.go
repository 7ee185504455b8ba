package records

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"time"

	"bridgespan/core/fault"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Migrate brings the schema up to date, under a lease, so that several
// instances may start at once: one works, the others wait for it.
func (db *DB) Migrate(ctx context.Context, holder string) (applied []string, err error) {
	if err := db.prepare(ctx); err != nil {
		return nil, err
	}
	lease, err := db.awaitLease(ctx, "schema", holder, time.Minute)
	if err != nil {
		return nil, err
	}
	defer db.Release(context.WithoutCancel(ctx), lease)
	names, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		done, err := db.migrateOne(ctx, lease, name)
		if err != nil {
			return applied, fmt.Errorf("migration %s: %w", path.Base(name), err)
		}
		if done {
			applied = append(applied, strings.TrimSuffix(path.Base(name), ".sql"))
		}
	}
	return applied, nil
}

// prepare makes the two tables that migrations themselves need.
func (db *DB) prepare(ctx context.Context) error {
	for _, statement := range []string{
		`CREATE TABLE IF NOT EXISTS leases (name VARCHAR(128) NOT NULL PRIMARY KEY, holder VARCHAR(128) NOT NULL,
			fencing BIGINT UNSIGNED NOT NULL, expires DATETIME(6) NOT NULL) ENGINE=InnoDB`,
		`CREATE TABLE IF NOT EXISTS migrations (name VARCHAR(128) NOT NULL PRIMARY KEY, step INT NOT NULL,
			finished BOOLEAN NOT NULL, at DATETIME(6) NOT NULL) ENGINE=InnoDB`,
	} {
		if _, _, err := db.exec(ctx, statement); err != nil {
			return err
		}
	}
	return nil
}

// migrateOne runs the statements of one file that have not run yet. A
// statement that changes the schema commits by itself, so each is noted as it
// is done, and a start that was cut short goes on where it was.
func (db *DB) migrateOne(ctx context.Context, lease Lease, file string) (bool, error) {
	text, err := migrations.ReadFile(file)
	if err != nil {
		return false, err
	}
	name := strings.TrimSuffix(path.Base(file), ".sql")
	if _, _, err := db.exec(ctx, `INSERT IGNORE INTO migrations (name, step, finished, at) VALUES (?, 0, FALSE, UTC_TIMESTAMP(6))`, name); err != nil {
		return false, err
	}
	var done int
	var finished bool
	if err := db.run.QueryRowContext(ctx, `SELECT step, finished FROM migrations WHERE name = ?`, name).Scan(&done, &finished); err != nil {
		return false, unavailable(err)
	}
	if finished {
		return false, nil
	}
	for i, statement := range statements(string(text)) {
		if i < done {
			continue
		}
		if lease, err = db.Renew(ctx, lease, time.Minute); err != nil {
			return false, err
		}
		if _, _, err := db.exec(ctx, statement); err != nil {
			return false, err
		}
		if _, _, err := db.exec(ctx, `UPDATE migrations SET step = ? WHERE name = ?`, i+1, name); err != nil {
			return false, err
		}
	}
	_, _, err = db.exec(ctx, `UPDATE migrations SET finished = TRUE, at = UTC_TIMESTAMP(6) WHERE name = ?`, name)
	return true, err
}

// statements splits a file at the semicolons that end lines, without comments.
func statements(text string) []string {
	var lines []string
	for line := range strings.Lines(text) {
		if !strings.HasPrefix(strings.TrimSpace(line), "--") {
			lines = append(lines, line)
		}
	}
	var list []string
	for statement := range strings.SplitSeq(strings.Join(lines, ""), ";\n") {
		if statement = strings.TrimSpace(statement); statement != "" {
			list = append(list, strings.TrimSuffix(statement, ";"))
		}
	}
	return list
}

// Lease is the right to do one kind of work, until it expires. Fencing grows
// with every holder, so that what a former holder still writes can be told.
type Lease struct {
	Name, Holder string
	Fencing      int64
}

// Acquire takes a lease when nobody holds it. It uses a conditional UPDATE and
// its row count, which holds across the nodes of a cluster, as named locks do not.
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

// Renew extends a lease. It fails when the lease was lost to somebody else.
func (db *DB) Renew(ctx context.Context, lease Lease, length time.Duration) (Lease, error) {
	rows, _, err := db.exec(ctx, `UPDATE leases SET expires = UTC_TIMESTAMP(6) + INTERVAL ? MICROSECOND WHERE name = ? AND holder = ? AND fencing = ?`,
		length.Microseconds(), lease.Name, lease.Holder, lease.Fencing)
	if err == nil && rows == 0 {
		err = fault.New(fault.Stale, "let the other instance finish", "the lease %q was taken over", lease.Name)
	}
	return lease, err
}

// Hold renews a lease, or takes it when it is free or was lost; the zero Lease
// means that somebody else has it.
func (db *DB) Hold(ctx context.Context, lease Lease, name, holder string, length time.Duration) (Lease, error) {
	if lease.Holder != "" {
		if renewed, err := db.Renew(ctx, lease, length); err == nil {
			return renewed, nil
		}
	}
	taken, ok, err := db.Acquire(ctx, name, holder, length)
	if err != nil || !ok {
		return Lease{}, err
	}
	return taken, nil
}

// Release gives a lease back.
func (db *DB) Release(ctx context.Context, lease Lease) error {
	_, _, err := db.exec(ctx, `UPDATE leases SET expires = '2000-01-01' WHERE name = ? AND holder = ? AND fencing = ?`, lease.Name, lease.Holder, lease.Fencing)
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
