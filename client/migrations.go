package client

import (
	"context"
	"io"
	"net/url"

	"bridgespan/model"
)

// Migrations lists migrations.
func (c *Client) Migrations(ctx context.Context) ([]model.Migration, error) {
	return all[model.Migration](ctx, c, "migrations")
}

// Migration shows a migration.
func (c *Client) Migration(ctx context.Context, name string) (model.Migration, error) {
	return read[model.Migration](ctx, c, nil, "migrations", name)
}

// AddMigration begins a migration.
func (c *Client) AddMigration(ctx context.Context, n model.NewMigration) (model.Migration, error) {
	return add[model.Migration](ctx, c, n, "migrations")
}

// EditMigration changes what is migrated.
func (c *Client) EditMigration(ctx context.Context, name string, e model.EditMigration) (model.Migration, error) {
	return change[model.Migration](ctx, c, e, "migrations", name)
}

// RemoveMigration removes a migration.
func (c *Client) RemoveMigration(ctx context.Context, name string) error {
	return remove(ctx, c, nil, "migrations", name)
}

// SurveyMigration begins surveys of the shares of a migration.
func (c *Client) SurveyMigration(ctx context.Context, name string) ([]model.Run, error) {
	begun, err := add[model.Begun](ctx, c, nil, "migrations", name, "surveys")
	return begun.Runs, err
}

// MigrationAccounts lists the accounts in the permissions of the surveyed shares.
func (c *Client) MigrationAccounts(ctx context.Context, name string) ([]model.MigrationAccount, error) {
	return all[model.MigrationAccount](ctx, c, "migrations", name, "accounts")
}

// MigrationSurveyReport writes what the surveys found: as html, or as CSV of shares or accounts.
func (c *Client) MigrationSurveyReport(ctx context.Context, name, form string, w io.Writer) error {
	return c.textOf(ctx, w, url.Values{"form": {form}}, "migrations", name, "survey-report")
}

// CheckMigrationTarget checks the target of a migration.
func (c *Client) CheckMigrationTarget(ctx context.Context, name string) (model.Migration, error) {
	return add[model.Migration](ctx, c, nil, "migrations", name, "target-check")
}
