package records

import (
	"context"
	"database/sql"
	"encoding/json"

	"bridgespan/core/namespace"
	"bridgespan/model"
)

const cloudSetupColumns = `SELECT name, draft, steps, checked, start_run, changed, changed_by, version FROM cloud_setups`

func scanCloudSetup(s scanner) (c model.CloudSetup, err error) {
	var draft, steps []byte
	var checked sql.NullTime
	if err = s.Scan(&c.Name, &draft, &steps, &checked, &c.Start, &c.Changed, &c.By, &c.Version); err != nil {
		return c, err
	}
	if checked.Valid {
		c.Checked = &checked.Time
	}
	if err = json.Unmarshal(draft, &c.CloudDraft); err != nil {
		return c, err
	}
	return c, json.Unmarshal(steps, &c.Steps)
}

// CloudSetups lists the cloud sets that are being set up, by name.
func (q Queries) CloudSetups(ctx context.Context, page Page) ([]model.CloudSetup, error) {
	rows, err := q.run.QueryContext(ctx, cloudSetupColumns+` WHERE name_key > ? ORDER BY name_key LIMIT ?`, page.After, page.Limit)
	return collect(rows, err, scanCloudSetup)
}

// CloudSetup finds the set-up of a cloud set by its name.
func (q Queries) CloudSetup(ctx context.Context, name string) (model.CloudSetup, error) {
	return one(q.run.QueryRowContext(ctx, cloudSetupColumns+` WHERE name_key = ?`, namespace.Key(name)), scanCloudSetup,
		notFound("set-up of a cloud set", name, "list the set-ups with: bspan cloud setup list"))
}

// AddCloudSetup adds the set-up of a cloud set. Nothing of it is checked yet.
func (tx *Tx) AddCloudSetup(ctx context.Context, c model.CloudSetup) error {
	draft, err := json.Marshal(c.CloudDraft)
	if err != nil {
		return err
	}
	_, _, err = tx.exec(ctx, `INSERT INTO cloud_setups (name, name_key, draft, steps, changed, changed_by) VALUES (?, ?, ?, '[]', ?, ?)`, c.Name, namespace.Key(c.Name), draft, c.Changed, c.By)
	return taken(err, "name", "set-up of a cloud set", c.Name)
}

// UpdateCloudSetup changes a draft. What its checks found is forgotten.
func (tx *Tx) UpdateCloudSetup(ctx context.Context, c model.CloudSetup) error {
	draft, err := json.Marshal(c.CloudDraft)
	if err != nil {
		return err
	}
	return tx.expectVersion(ctx, "set-up of "+c.Name, `UPDATE cloud_setups SET draft = ?, steps = '[]', checked = NULL, changed = ?, changed_by = ?, version = version + 1 WHERE name_key = ? AND version = ?`,
		draft, c.Changed, c.By, namespace.Key(c.Name), c.Version)
}

// RemoveCloudSetup removes a set-up.
func (tx *Tx) RemoveCloudSetup(ctx context.Context, c model.CloudSetup) error {
	return tx.expectVersion(ctx, "set-up of "+c.Name, `DELETE FROM cloud_setups WHERE name_key = ? AND version = ?`, namespace.Key(c.Name), c.Version)
}

// StoreSetupChecks stores what the checks of a draft found, unless the draft was changed meanwhile.
func (q Queries) StoreSetupChecks(ctx context.Context, c model.CloudSetup) error {
	steps, err := json.Marshal(c.Steps)
	if err != nil {
		return err
	}
	_, _, err = q.exec(ctx, `UPDATE cloud_setups SET steps = ?, checked = ? WHERE name_key = ? AND version = ?`, steps, c.Checked, namespace.Key(c.Name), c.Version)
	return err
}

// StoreSetupStart stores the number of the run that creates the set.
func (q Queries) StoreSetupStart(ctx context.Context, name string, run int64) error {
	_, _, err := q.exec(ctx, `UPDATE cloud_setups SET start_run = ? WHERE name_key = ?`, run, namespace.Key(name))
	return err
}

// EndCloudSetup removes the set-up of a set that was created.
func (q Queries) EndCloudSetup(ctx context.Context, name string) error {
	_, _, err := q.exec(ctx, `DELETE FROM cloud_setups WHERE name_key = ?`, namespace.Key(name))
	return err
}
