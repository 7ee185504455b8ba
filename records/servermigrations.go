package records

import (
	"context"
	"encoding/json"

	"bridgespan/core/namespace"
	"bridgespan/model"
)

const migrationColumns = `SELECT name, draft, changed, changed_by, version FROM server_migrations`

func scanMigration(s scanner) (m model.Migration, err error) {
	var draft []byte
	if err = s.Scan(&m.Name, &draft, &m.Changed, &m.By, &m.Version); err != nil {
		return m, err
	}
	return m, json.Unmarshal(draft, &m.MigrationDraft)
}

// Migrations lists migrations as they were entered, by name.
func (q Queries) Migrations(ctx context.Context, page Page) ([]model.Migration, error) {
	rows, err := q.run.QueryContext(ctx, migrationColumns+` WHERE name_key > ? ORDER BY name_key LIMIT ?`, page.After, page.Limit)
	return collect(rows, err, scanMigration)
}

// Migration finds a migration by its name.
func (q Queries) Migration(ctx context.Context, name string) (model.Migration, error) {
	return one(q.run.QueryRowContext(ctx, migrationColumns+` WHERE name_key = ?`, namespace.Key(name)), scanMigration,
		notFound("migration", name, "list the migrations with: bspan migration list"))
}

// AddMigration adds a migration.
func (tx *Tx) AddMigration(ctx context.Context, m model.Migration) error {
	draft, err := json.Marshal(m.MigrationDraft)
	if err != nil {
		return err
	}
	_, _, err = tx.exec(ctx, `INSERT INTO server_migrations (name, name_key, draft, changed, changed_by) VALUES (?, ?, ?, ?, ?)`, m.Name, namespace.Key(m.Name), draft, m.Changed, m.By)
	return taken(err, "name", "migration", m.Name)
}

// UpdateMigration changes what was entered.
func (tx *Tx) UpdateMigration(ctx context.Context, m model.Migration) error {
	draft, err := json.Marshal(m.MigrationDraft)
	if err != nil {
		return err
	}
	return tx.expectVersion(ctx, "migration "+m.Name, `UPDATE server_migrations SET draft = ?, changed = ?, changed_by = ?, version = version + 1 WHERE name_key = ? AND version = ?`,
		draft, m.Changed, m.By, namespace.Key(m.Name), m.Version)
}

// RemoveMigration removes a migration.
func (tx *Tx) RemoveMigration(ctx context.Context, m model.Migration) error {
	return tx.expectVersion(ctx, "migration "+m.Name, `DELETE FROM server_migrations WHERE name_key = ? AND version = ?`, namespace.Key(m.Name), m.Version)
}
