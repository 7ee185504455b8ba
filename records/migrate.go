package records

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"time"
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
		if err := db.Renew(ctx, lease, time.Minute); err != nil {
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
