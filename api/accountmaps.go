package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/model"
)

// MapPath names an account map.
type MapPath struct {
	Map string `path:"map" doc:"Name of the account map"`
}

func (a *API) accountMapRoutes() {
	const one = "/account-maps/{map}"
	tags := []string{"Accounts"}
	route(a, model.Viewer, huma.Operation{OperationID: "list-account-maps", Method: "GET", Path: "/account-maps", Summary: "List account maps", Tags: tags},
		func(ctx context.Context, in *PageIn) (*body[model.Page[model.AccountMap]], error) {
			return paged(in, a.Accounts.Maps, func(m model.AccountMap) string { return m.Name })(ctx)
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-account-map", Method: "GET", Path: one, Summary: "Show an account map", Tags: tags},
		func(ctx context.Context, in *MapPath) (*tagged[model.AccountMap], error) {
			return a.accountMap(ctx, in.Map)
		})
	change(a, model.Administrator, huma.Operation{OperationID: "add-account-map", Method: "POST", Path: "/account-maps", Summary: "Say which accounts of different servers are those of the same people", Tags: tags, DefaultStatus: 201},
		func(ctx context.Context, in *body[model.NewAccountMap]) (*tagged[model.AccountMap], error) {
			if err := a.Accounts.AddMap(ctx, in.Body); err != nil {
				return nil, err
			}
			return a.accountMap(ctx, in.Body.Name)
		})
	change(a, model.Administrator, huma.Operation{OperationID: "edit-account-map", Method: "PATCH", Path: one, Summary: "Change an account map", Tags: tags, Description: "Replica sets that use it go on with their accounts as they were, until these are paired anew."},
		func(ctx context.Context, in *struct {
			MapPath
			Guard
			Sent[model.EditAccountMap]
		}) (*tagged[model.AccountMap], error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			if err := a.Accounts.EditMap(ctx, in.Map, version, in.Body); err != nil {
				return nil, err
			}
			model.Take(&in.Map, in.Body.Name)
			return a.accountMap(ctx, in.Map)
		})
	change(a, model.Administrator, huma.Operation{OperationID: "remove-account-map", Method: "DELETE", Path: one, Summary: "Remove an account map that nothing uses", Tags: tags, DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			MapPath
			Guard
		}) (*none, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			return nil, a.Accounts.RemoveMap(ctx, in.Map, version)
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-account-pairs", Method: "GET", Path: one + "/pairs", Summary: "Tell what an account map says of two servers, and who gains by it", Tags: tags},
		func(ctx context.Context, in *struct {
			MapPath
			One   string `query:"one" required:"true" doc:"Name of one server"`
			Other string `query:"other" required:"true" doc:"Name of the other"`
		}) (*body[model.AccountPairs], error) {
			p, err := a.Accounts.Pairs(ctx, in.Map, in.One, in.Other)
			return &body[model.AccountPairs]{p}, err
		})
}

func (a *API) accountMap(ctx context.Context, name string) (*tagged[model.AccountMap], error) {
	m, err := a.Accounts.Map(ctx, name)
	return &tagged[model.AccountMap]{etag(m.Version), m}, err
}
