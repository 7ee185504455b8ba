package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/model"
)

// FrontPath names a front.
type FrontPath struct {
	Server string `path:"server" doc:"Server in Bridge Span that is the front's host"`
	Share  string `path:"share" doc:"Name of its share"`
}

func (a *API) frontRoutes() {
	tags := []string{"Fronts"}
	const path = "/fronts/{server}/{share}"
	route(a, model.Viewer, huma.Operation{OperationID: "list-fronts", Method: "GET", Path: "/fronts", Summary: "List the fronts: namespaces as shares of SMB servers", Tags: tags},
		func(ctx context.Context, in *struct {
			Namespace string `query:"namespace" doc:"Of this namespace alone"`
		}) (*body[model.Fronts], error) {
			list, err := a.Fronts.Fronts(ctx, in.Namespace)
			return &body[model.Fronts]{model.Fronts{Fronts: list, Keeping: model.FrontKeeping}}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-front", Method: "GET", Path: path, Summary: "Show a front", Tags: tags},
		func(ctx context.Context, in *FrontPath) (*tagged[model.Front], error) {
			f, err := a.Fronts.Front(ctx, in.Server, in.Share)
			return &tagged[model.Front]{etag(f.Version), f}, err
		})
	route(a, model.Administrator, huma.Operation{OperationID: "add-front", Method: "POST", Path: "/fronts", Summary: "Make a front, or rehearse that", Tags: tags,
		Description: "What is in the way is refused; a rehearsal tells all of it, and the lines that the configuration of the file service lacks."},
		func(ctx context.Context, in *body[model.NewFront]) (*body[model.FrontPlan], error) {
			plan, err := a.Fronts.Add(ctx, in.Body)
			return &body[model.FrontPlan]{plan}, err
		})
	change(a, model.Administrator, huma.Operation{OperationID: "edit-front", Method: "PATCH", Path: path, Summary: "Change a front", Tags: tags},
		func(ctx context.Context, in *struct {
			FrontPath
			Guard
			Sent[model.EditFront]
		}) (*tagged[model.Front], error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			f, err := a.Fronts.Edit(ctx, in.Server, in.Share, version, in.Body)
			return &tagged[model.Front]{etag(f.Version), f}, err
		})
	route(a, model.Administrator, huma.Operation{OperationID: "remove-front", Method: "DELETE", Path: path, Summary: "Remove a front with all that it made, or rehearse that", Tags: tags,
		Description: "What is behind its links stays, and so does what Bridge Span did not make. A front whose host is lost can be removed from Bridge Span only."},
		func(ctx context.Context, in *struct {
			FrontPath
			Guard
			Forget   bool `query:"forget" doc:"Remove it from Bridge Span only: its host is lost. Its folder and share stay on the host"`
			Rehearse bool `query:"rehearse" doc:"Only tell what would be done"`
		}) (*body[model.FrontPlan], error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			plan, err := a.Fronts.Remove(ctx, in.Server, in.Share, version, model.RemoveFront{Forget: in.Forget, Rehearse: in.Rehearse})
			return &body[model.FrontPlan]{plan}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "list-front-connections", Method: "GET", Path: path + "/connected", Summary: "Tell who has a front open", Tags: tags},
		func(ctx context.Context, in *FrontPath) (*body[model.FrontConnections], error) {
			list, err := a.Fronts.Connected(ctx, in.Server, in.Share)
			return &body[model.FrontConnections]{model.FrontConnections{Connected: list}}, err
		})
	route(a, model.Operator, huma.Operation{OperationID: "check-front", Method: "POST", Path: path + "/check", Summary: "Ask a front as a client does, line by line", Tags: tags},
		func(ctx context.Context, in *struct {
			FrontPath
			Sent[model.AskFrontCheck]
		}) (*body[model.Check], error) {
			check, err := a.Fronts.Check(ctx, in.Server, in.Share, in.Body)
			return &body[model.Check]{check}, err
		})
}
