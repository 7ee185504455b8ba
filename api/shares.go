package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/model"
)

// SharePath names a share.
type SharePath struct {
	ServerPath
	Share string `path:"share" doc:"Name of the share"`
}

// shareList is every share that was asked for; a server has too few to page.
type shareList struct {
	Shares []model.Share `json:"shares" doc:"The shares, by server and name"`
}

func (a *API) shareRoutes() {
	tags := []string{"Shares"}
	route(a, model.Viewer, huma.Operation{OperationID: "list-shares", Method: "GET", Path: "/shares", Summary: "List shares as last seen", Tags: tags},
		func(ctx context.Context, in *struct {
			Server string `query:"server" doc:"Of this server alone"`
		}) (*body[shareList], error) {
			shares, err := a.Estate.Shares(ctx, in.Server)
			return &body[shareList]{shareList{shares}}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-share", Method: "GET", Path: "/servers/{server}/shares/{share}", Summary: "Look at a share as it is now", Tags: tags},
		func(ctx context.Context, in *SharePath) (*body[model.ShareDetail], error) {
			detail, err := a.Estate.Share(ctx, in.Server, in.Share)
			return &body[model.ShareDetail]{detail}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-share-settings", Method: "GET", Path: "/servers/{server}/shares/{share}/settings", Summary: "Tell how a share is set, and who uses it", Tags: tags},
		func(ctx context.Context, in *SharePath) (*body[model.ShareNow], error) {
			now, err := a.Shares.Settings(ctx, in.Server, in.Share)
			return &body[model.ShareNow]{now}, err
		})
	a.shareChangeRoutes()
}

func (a *API) shareChangeRoutes() {
	tags := []string{"Shares"}
	route(a, model.Administrator, huma.Operation{OperationID: "create-share", Method: "POST", Path: "/servers/{server}/shares", Summary: "Make a share, or rehearse that", Tags: tags,
		Description: "The answer says what was considered, what was done, and what people may do in the end. What fails half-way is taken back."},
		func(ctx context.Context, in *struct {
			ServerPath
			Sent[model.NewShare]
		}) (*body[model.SharePlan], error) {
			plan, err := a.Shares.Create(ctx, in.Server, in.Body)
			return &body[model.SharePlan]{plan}, err
		})
	route(a, model.Administrator, huma.Operation{OperationID: "edit-share", Method: "PATCH", Path: "/servers/{server}/shares/{share}", Summary: "Change a share, or rehearse that", Tags: tags,
		Description: "What is absent stays."},
		func(ctx context.Context, in *struct {
			SharePath
			Sent[model.EditShare]
		}) (*body[model.SharePlan], error) {
			plan, err := a.Shares.Edit(ctx, in.Server, in.Share, in.Body)
			return &body[model.SharePlan]{plan}, err
		})
	route(a, model.Administrator, huma.Operation{OperationID: "remove-share", Method: "DELETE", Path: "/servers/{server}/shares/{share}", Summary: "End a share, or rehearse that; its files stay", Tags: tags},
		func(ctx context.Context, in *struct {
			SharePath
			Rehearse bool `query:"rehearse" doc:"Only tell what it would mean"`
			Detach   bool `query:"detach" doc:"Remove its locations from signposts as well, where others are left"`
		}) (*body[model.SharePlan], error) {
			plan, err := a.Shares.Remove(ctx, in.Server, in.Share, in.Rehearse, in.Detach)
			return &body[model.SharePlan]{plan}, err
		})
}
