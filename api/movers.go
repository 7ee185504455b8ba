package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/model"
)

func (a *API) moverRoutes() {
	tags := []string{"Servers"}
	route(a, model.Viewer, huma.Operation{OperationID: "list-movers", Method: "GET", Path: "/movers", Summary: "List movers with the versions of their programs", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*body[model.Page[model.Mover]], error) {
			list, err := a.Movers.Movers(ctx)
			return &body[model.Page[model.Mover]]{model.Page[model.Mover]{Items: list}}, err
		})
	route(a, model.Administrator, huma.Operation{OperationID: "update-movers", Method: "POST", Path: "/mover-updates", Summary: "Update movers to the build of the service, one after the other", Tags: tags, DefaultStatus: 202,
		Description: "The service sends its own program with a signature. Each mover checks it, tries it, and starts it; one that does not serve is replaced by the program before it. The next mover begins when the edges of the one before it are ready again."},
		func(ctx context.Context, in *body[model.UpdateMovers]) (*body[model.MoverUpdates], error) {
			u, err := a.Movers.Update(ctx, in.Body)
			return &body[model.MoverUpdates]{u}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-mover-updates", Method: "GET", Path: "/mover-updates/{run}", Summary: "Show a run that updates movers", Tags: tags},
		func(ctx context.Context, in *RunPath) (*body[model.MoverUpdates], error) {
			u, err := a.Movers.Updates(ctx, in.Run)
			return &body[model.MoverUpdates]{u}, err
		})
	route(a, model.Administrator, huma.Operation{OperationID: "schedule-mover-updates", Method: "POST", Path: "/mover-update-jobs", Summary: "Save updates of movers that are made again and again, such as in a weekly window", Tags: tags, DefaultStatus: 201},
		func(ctx context.Context, in *body[model.ScheduleMoverUpdates]) (*body[model.Job], error) {
			job, err := a.Movers.Schedule(ctx, in.Body)
			return &body[model.Job]{job}, err
		})
}
