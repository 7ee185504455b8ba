package api

import (
	"context"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/model"
)

// PlaceIn asks about a file or folder.
type PlaceIn struct {
	Path string `query:"path" required:"true" doc:"SERVER/SHARE/PATH, or a path of a namespace with a leading slash"`
}

func (a *API) rightsRoutes() {
	tags := []string{"Rights"}
	route(a, model.Viewer, huma.Operation{OperationID: "get-rights", Method: "GET", Path: "/rights", Summary: "Tell who may do what with a file or folder", Tags: tags},
		func(ctx context.Context, in *PlaceIn) (*body[model.Rights], error) {
			r, err := a.Rights.Show(ctx, in.Path)
			return &body[model.Rights]{r}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-rights-as", Method: "GET", Path: "/rights/as", Summary: "Tell what one account may do, and why", Tags: tags},
		func(ctx context.Context, in *struct {
			PlaceIn
			Account string `query:"account" required:"true" doc:"Name or SID"`
		}) (*body[model.EffectiveRights], error) {
			r, err := a.Rights.As(ctx, in.Path, in.Account)
			return &body[model.EffectiveRights]{r}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-access-across", Method: "GET", Path: setRoute + "/access", Summary: "Compare what a person may do with a path of a set at each replica", Tags: tags},
		func(ctx context.Context, in *struct {
			SetPath
			Path string `query:"path" maxLength:"4096" doc:"Path within the set; its top when absent"`
			As   string `query:"as" required:"true" maxLength:"512" doc:"Name or SID of the person"`
		}) (*body[model.AccessAcross], error) {
			found, err := a.Rights.Across(ctx, in.Set, in.Path, in.As)
			return &body[model.AccessAcross]{found}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "compare-rights", Method: "GET", Path: "/rights/compare", Summary: "Tell how the permissions of two places alone differ", Tags: tags},
		func(ctx context.Context, in *struct {
			First  string `query:"first" required:"true" doc:"As path of the other calls"`
			Second string `query:"second" required:"true" doc:"As path of the other calls"`
		}) (*body[model.RightsComparison], error) {
			r, err := a.Rights.Compare(ctx, in.First, in.Second)
			return &body[model.RightsComparison]{r}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "browse", Method: "GET", Path: "/browse", Summary: "List a folder with the permissions of what is in it", Tags: tags},
		func(ctx context.Context, in *struct {
			PlaceIn
			As     string `query:"as" doc:"Name or SID of an account: tell what it may do with each entry"`
			Filter string `query:"filter" doc:"Part of the name"`
		}) (*body[model.Folder], error) {
			f, err := a.Rights.Browse(ctx, in.Path, in.As, in.Filter)
			return &body[model.Folder]{f}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "explain-descriptor", Method: "POST", Path: "/servers/{server}/explain", Summary: "Put a security descriptor in words", Tags: tags},
		func(ctx context.Context, in *struct {
			ServerPath
			Sent[model.ExplainDescriptor]
		}) (*body[model.Permissions], error) {
			p, err := a.Rights.Explain(ctx, in.Server, in.Body.Descriptor, in.Body.On)
			return &body[model.Permissions]{p}, err
		})
	a.whoCanRoutes()
	a.comparisonRoutes()
	a.rightsChangeRoutes()
}

// RunPath names a run.
type RunPath struct {
	Run int64 `path:"run" minimum:"1" maximum:"9007199254740991" doc:"Number of the run"`
}

func (a *API) whoCanRoutes() {
	tags := []string{"Rights"}
	route(a, model.Operator, huma.Operation{OperationID: "start-who-can", Method: "POST", Path: "/rights/who-can", Summary: "Find who of all users has at least a level", Tags: tags, DefaultStatus: 202,
		Description: "It is a run: what takes longer than a few seconds goes on after the answer."},
		func(ctx context.Context, in *body[model.AskWhoCan]) (*body[model.WhoCan], error) {
			w, err := a.Rights.StartWhoCan(ctx, in.Body)
			return &body[model.WhoCan]{w}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-who-can", Method: "GET", Path: "/rights/who-can/{run}", Summary: "Show who has a level, as far as it was found", Tags: tags},
		func(ctx context.Context, in *RunPath) (*body[model.WhoCan], error) {
			w, err := a.Rights.WhoCan(ctx, in.Run)
			return &body[model.WhoCan]{w}, err
		})
}

func (a *API) comparisonRoutes() {
	tags := []string{"Rights"}
	route(a, model.Operator, huma.Operation{OperationID: "start-comparison", Method: "POST", Path: "/rights/comparisons", Summary: "Compare the permissions of two places and of everything below them", Tags: tags, DefaultStatus: 202,
		Description: "It is a run: what takes longer than a few seconds goes on after the answer."},
		func(ctx context.Context, in *body[model.CompareRights]) (*body[model.RightsComparison], error) {
			c, err := a.Rights.StartCompare(ctx, in.Body)
			return &body[model.RightsComparison]{c}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-comparison", Method: "GET", Path: "/rights/comparisons/{run}", Summary: "Show a comparison of permissions as far as it is", Tags: tags},
		func(ctx context.Context, in *RunPath) (*body[model.RightsComparison], error) {
			c, err := a.Rights.Comparison(ctx, in.Run)
			return &body[model.RightsComparison]{c}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "list-differences", Method: "GET", Path: "/rights/comparisons/{run}/differences", Summary: "List where the two places of a comparison differ, in the order of the paths", Tags: tags},
		func(ctx context.Context, in *struct {
			RunPath
			NumberedPart
			Filter string `query:"filter" maxLength:"256" doc:"Part of the path"`
		}) (*body[model.Page[model.RightsDifference]], error) {
			after, err := in.number()
			if err != nil {
				return nil, err
			}
			list, next, err := a.Rights.Differences(ctx, in.Run, after, in.Filter, in.Limit)
			page := model.Page[model.RightsDifference]{Items: list}
			if next != 0 {
				page.Next = strconv.FormatInt(next, 10)
			}
			return &body[model.Page[model.RightsDifference]]{page}, err
		})
}

func (a *API) rightsChangeRoutes() {
	tags := []string{"Rights"}
	route(a, model.Administrator, huma.Operation{OperationID: "change-rights", Method: "POST", Path: "/rights/changes", Summary: "Change permissions, or rehearse that", Tags: tags, DefaultStatus: 202,
		Description: "What takes longer than a few seconds goes on as a run. Each file and folder keeps what it was, so that the change can be undone; one that somebody else changed meanwhile is left alone and reported."},
		func(ctx context.Context, in *body[model.ChangeRights]) (*body[model.RightsChange], error) {
			c, err := a.Rights.Change(ctx, in.Body)
			return &body[model.RightsChange]{c}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-rights-change", Method: "GET", Path: "/rights/changes/{run}", Summary: "Show a change of permissions", Tags: tags},
		func(ctx context.Context, in *RunPath) (*body[model.RightsChange], error) {
			c, err := a.Rights.Get(ctx, in.Run)
			return &body[model.RightsChange]{c}, err
		})
	route(a, model.Administrator, huma.Operation{OperationID: "undo-rights", Method: "POST", Path: "/rights/changes/{run}/undo", Summary: "Take back what a change of permissions did", Tags: tags, DefaultStatus: 202},
		func(ctx context.Context, in *RunPath) (*body[model.RightsChange], error) {
			c, err := a.Rights.Undo(ctx, in.Run)
			return &body[model.RightsChange]{c}, err
		})
}
