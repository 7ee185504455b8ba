package records

import (
	"context"
	"database/sql"
	"encoding/json"

	"bridgespan/core/namespace"
	"bridgespan/model"
)

const migrationColumns = `SELECT name, draft, COALESCE(checks, '[]'), checked, changed, changed_by, version FROM server_migrations`

func scanMigration(s scanner) (m model.Migration, err error) {
	var draft, checks []byte
	var checked sql.NullTime
	if err = s.Scan(&m.Name, &draft, &checks, &checked, &m.Changed, &m.By, &m.Version); err != nil {
		return m, err
	}
	if checked.Valid {
		m.TargetChecked = &checked.Time
	}
	if err = json.Unmarshal(draft, &m.MigrationDraft); err != nil {
		return m, err
	}
	return m, json.Unmarshal(checks, &m.TargetChecks)
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

// UpdateMigration changes what was entered. What checks of the target found is forgotten.
func (tx *Tx) UpdateMigration(ctx context.Context, m model.Migration) error {
	draft, err := json.Marshal(m.MigrationDraft)
	if err != nil {
		return err
	}
	return tx.expectVersion(ctx, "migration "+m.Name, `UPDATE server_migrations SET draft = ?, checks = NULL, checked = NULL, changed = ?, changed_by = ?, version = version + 1 WHERE name_key = ? AND version = ?`,
		draft, m.Changed, m.By, namespace.Key(m.Name), m.Version)
}

// StoreTargetChecks stores what checks of the target found, unless the migration was changed meanwhile.
func (q Queries) StoreTargetChecks(ctx context.Context, m model.Migration) error {
	checks, err := json.Marshal(m.TargetChecks)
	if err != nil {
		return err
	}
	_, _, err = q.exec(ctx, `UPDATE server_migrations SET checks = ?, checked = ? WHERE name_key = ? AND version = ?`, checks, m.TargetChecked, namespace.Key(m.Name), m.Version)
	return err
}

// RemoveMigration removes a migration.
func (tx *Tx) RemoveMigration(ctx context.Context, m model.Migration) error {
	return tx.expectVersion(ctx, "migration "+m.Name, `DELETE FROM server_migrations WHERE name_key = ? AND version = ?`, namespace.Key(m.Name), m.Version)
}
