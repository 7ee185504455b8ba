package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/model"
)

// SetupPath names the set-up of a cloud set.
type SetupPath struct {
	Setup string `path:"setup" doc:"Name of the cloud set that is being set up"`
}

func (a *API) setupRoutes() {
	const one = "/cloud-setups/{setup}"
	tags := []string{"Cloud sets"}
	route(a, model.Viewer, huma.Operation{OperationID: "list-cloud-setups", Method: "GET", Path: "/cloud-setups", Summary: "List cloud sets that are being set up", Tags: tags},
		func(ctx context.Context, in *PageIn) (*body[model.Page[model.CloudSetup]], error) {
			return paged(in, a.Replicas.Setups.Setups, func(c model.CloudSetup) string { return c.Name })(ctx)
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-cloud-setup", Method: "GET", Path: one, Summary: "Show a set-up, with what the latest checks of its steps found", Tags: tags},
		func(ctx context.Context, in *SetupPath) (*tagged[model.CloudSetup], error) {
			return a.setup(ctx, in.Setup)
		})
	change(a, model.Administrator, huma.Operation{OperationID: "add-cloud-setup", Method: "POST", Path: "/cloud-setups", Summary: "Begin the set-up of a cloud set", Tags: tags, DefaultStatus: 201, Description: "What is entered is stored. Nothing else is changed before the last step."},
		func(ctx context.Context, in *body[model.NewCloudSetup]) (*tagged[model.CloudSetup], error) {
			if err := a.Replicas.AddSetup(ctx, in.Body); err != nil {
				return nil, err
			}
			return a.setup(ctx, in.Body.Name)
		})
	change(a, model.Administrator, huma.Operation{OperationID: "edit-cloud-setup", Method: "PATCH", Path: one, Summary: "Change what was entered for a set-up; its steps are to be checked again", Tags: tags},
		func(ctx context.Context, in *struct {
			SetupPath
			Guard
			Sent[model.EditCloudSetup]
		}) (*tagged[model.CloudSetup], error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			if err := a.Replicas.EditSetup(ctx, in.Setup, version, in.Body); err != nil {
				return nil, err
			}
			return a.setup(ctx, in.Setup)
		})
	change(a, model.Administrator, huma.Operation{OperationID: "remove-cloud-setup", Method: "DELETE", Path: one, Summary: "Discard a set-up; its bucket and folders are not touched", Tags: tags, DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			SetupPath
			Guard
		}) (*none, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			return nil, a.Replicas.RemoveSetup(ctx, in.Setup, version)
		})
	route(a, model.Operator, huma.Operation{OperationID: "check-cloud-setup", Method: "POST", Path: one + "/check", Summary: "Check the steps of a set-up, up to the first one that is not passed", Tags: tags},
		func(ctx context.Context, in *SetupPath) (*tagged[model.CloudSetup], error) {
			c, err := a.Replicas.CheckSetup(ctx, in.Setup)
			return &tagged[model.CloudSetup]{etag(c.Version), c}, err
		})
	route(a, model.Operator, huma.Operation{OperationID: "plan-cloud-setup", Method: "POST", Path: one + "/plan", Summary: "Plan the cloud set of a set-up whose steps before the plan are passed", Tags: tags, DefaultStatus: 202},
		func(ctx context.Context, in *SetupPath) (*body[model.ReplicaPlan], error) {
			p, err := a.Replicas.PlanSetup(ctx, in.Setup)
			return &body[model.ReplicaPlan]{p}, err
		})
	change(a, model.Administrator, huma.Operation{OperationID: "start-cloud-setup", Method: "POST", Path: one + "/start", Summary: "Create the cloud set of a set-up whose plan is passed", Tags: tags, DefaultStatus: 202},
		func(ctx context.Context, in *SetupPath) (*body[model.ReplicaCreation], error) {
			c, err := a.Replicas.StartSetup(ctx, in.Setup)
			return &body[model.ReplicaCreation]{c}, err
		})
}

func (a *API) setup(ctx context.Context, name string) (*tagged[model.CloudSetup], error) {
	c, err := a.Replicas.Setup(ctx, name)
	return &tagged[model.CloudSetup]{etag(c.Version), c}, err
}
