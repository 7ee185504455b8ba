package api

import (
	"bufio"
	"context"
	"io"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/model"
)

// MigrationPath names a migration.
type MigrationPath struct {
	Migration string `path:"migration" doc:"Name of the migration"`
}

func (a *API) migrationRoutes() {
	const one = "/migrations/{migration}"
	tags := []string{"Migrations"}
	route(a, model.Viewer, huma.Operation{OperationID: "list-migrations", Method: "GET", Path: "/migrations", Summary: "List migrations", Tags: tags},
		func(ctx context.Context, in *PageIn) (*body[model.Page[model.Migration]], error) {
			return paged(in, a.Migrations.List, func(m model.Migration) string { return m.Name })(ctx)
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-migration", Method: "GET", Path: one, Summary: "Show a migration, with the latest survey of each of its shares", Tags: tags},
		func(ctx context.Context, in *MigrationPath) (*tagged[model.Migration], error) {
			return a.migration(ctx, in.Migration)
		})
	change(a, model.Administrator, huma.Operation{OperationID: "add-migration", Method: "POST", Path: "/migrations", Summary: "Begin a migration: choose its sources", Tags: tags, DefaultStatus: 201, Description: "Nothing is changed at the servers."},
		func(ctx context.Context, in *body[model.NewMigration]) (*tagged[model.Migration], error) {
			if err := a.Migrations.Add(ctx, in.Body); err != nil {
				return nil, err
			}
			return a.migration(ctx, in.Body.Name)
		})
	change(a, model.Administrator, huma.Operation{OperationID: "edit-migration", Method: "PATCH", Path: one, Summary: "Change the sources of a migration, the shares that stay, or the target", Tags: tags},
		func(ctx context.Context, in *struct {
			MigrationPath
			Guard
			Sent[model.EditMigration]
		}) (*tagged[model.Migration], error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			if err := a.Migrations.Edit(ctx, in.Migration, version, in.Body); err != nil {
				return nil, err
			}
			return a.migration(ctx, in.Migration)
		})
	change(a, model.Administrator, huma.Operation{OperationID: "remove-migration", Method: "DELETE", Path: one, Summary: "Remove a migration; the surveys of its shares stay", Tags: tags, DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			MigrationPath
			Guard
		}) (*none, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			return nil, a.Migrations.Remove(ctx, in.Migration, version)
		})
	route(a, model.Operator, huma.Operation{OperationID: "survey-migration", Method: "POST", Path: one + "/surveys", Summary: "Survey the shares of a migration, except those whose survey is under way; a call begins 100 surveys at most, of shares that were not surveyed for longest", Tags: tags, DefaultStatus: 202},
		func(ctx context.Context, in *MigrationPath) (*body[model.Begun], error) {
			runs, err := a.Migrations.Survey(ctx, in.Migration)
			return &body[model.Begun]{model.Begun{Runs: runs}}, err
		})
	route(a, model.Operator, huma.Operation{OperationID: "check-migration-target", Method: "POST", Path: one + "/target-check", Summary: "Check the target of a migration: rights, clock, space, features, folders and shares in the way, names, accounts", Tags: tags},
		func(ctx context.Context, in *MigrationPath) (*tagged[model.Migration], error) {
			m, err := a.Migrations.CheckTarget(ctx, in.Migration)
			return &tagged[model.Migration]{etag(m.Version), m}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "list-migration-accounts", Method: "GET", Path: one + "/accounts", Summary: "List the accounts in the permissions of the surveyed shares, those first that another server does not know", Tags: tags},
		func(ctx context.Context, in *MigrationPath) (*body[model.Page[model.MigrationAccount]], error) {
			list, err := a.Migrations.Accounts(ctx, in.Migration)
			return &body[model.Page[model.MigrationAccount]]{model.Page[model.MigrationAccount]{Items: list}}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-migration-survey-report", Method: "GET", Path: one + "/survey-report", Summary: "Get what the surveys found: as a page that needs nothing else, or as CSV (RFC 4180)", Tags: tags},
		func(ctx context.Context, in *struct {
			MigrationPath
			Form string `query:"form" enum:"html,shares,accounts" default:"html" doc:"html: a page; shares: CSV with a line for each share; accounts: CSV with a line for each account"`
		}) (*huma.StreamResponse, error) {
			kind, name, write := "text/csv; charset=utf-8", in.Form+".csv", a.Migrations.ShareTable
			switch in.Form {
			case "html":
				kind, name, write = "text/html; charset=utf-8", "survey.html", a.Migrations.Report
			case "accounts":
				write = a.Migrations.AccountTable
			}
			return a.text(ctx, kind, name, func(w *bufio.Writer) error { return write(ctx, in.Migration, io.Writer(w)) })
		})
}

func (a *API) migration(ctx context.Context, name string) (*tagged[model.Migration], error) {
	m, err := a.Migrations.Get(ctx, name)
	return &tagged[model.Migration]{etag(m.Version), m}, err
}
