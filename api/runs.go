package api

import (
	"context"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/core/fault"
	"bridgespan/model"
)

// NumberedPart asks for a part of a list whose items are numbered.
type NumberedPart struct {
	Cursor string `query:"cursor" doc:"Where the part begins: next of the part before"`
	Limit  int    `query:"limit" minimum:"1" maximum:"500" default:"50" doc:"How many items at most"`
}

// number reads the cursor; 0 is the beginning.
func (in NumberedPart) number() (int64, error) {
	if in.Cursor == "" {
		return 0, nil
	}
	n, err := strconv.ParseInt(in.Cursor, 10, 64)
	if err != nil {
		return 0, fault.Field("cursor", "use next of the part before, unchanged", "this is not a cursor of this service")
	}
	return n, nil
}

// runPage is a part of a list of runs, newest first.
func runPage(in NumberedPart, list func(before int64, limit int) ([]model.Run, error)) (*body[model.Page[model.Run]], error) {
	before, err := in.number()
	if err != nil {
		return nil, err
	}
	runs, err := list(before, in.Limit+1)
	return &body[model.Page[model.Run]]{numberedPage(runs, in.Limit, func(r model.Run) int64 { return r.ID })}, err
}

// numberedPage makes a part of a list of which one more was read than fits.
func numberedPage[T any](list []T, limit int, number func(T) int64) model.Page[T] {
	page := model.Page[T]{Items: list}
	if len(list) > limit {
		page.Items = list[:limit]
		page.Next = strconv.FormatInt(number(list[limit-1]), 10)
	}
	return page
}

func (a *API) runRoutes() {
	tags := []string{"Runs"}
	route(a, model.Viewer, huma.Operation{OperationID: "list-runs", Method: "GET", Path: "/runs", Summary: "List runs: work that takes a while, newest first", Tags: tags},
		func(ctx context.Context, in *struct {
			NumberedPart
			Kind string `query:"kind" enum:"survey,share,front,rights,compare,verify,who-can,plan,create-set,verify-set,probe,estimate,what-if,pool,prove" doc:"Of this kind alone"`
		}) (*body[model.Page[model.Run]], error) {
			return runPage(in.NumberedPart, func(before int64, limit int) ([]model.Run, error) {
				return a.Jobs.List(ctx, in.Kind, "", before, limit)
			})
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-run", Method: "GET", Path: "/runs/{run}", Summary: "Show how far a run is", Tags: tags},
		func(ctx context.Context, in *RunPath) (*body[model.Run], error) {
			r, err := a.Jobs.Get(ctx, in.Run)
			return &body[model.Run]{r}, err
		})
	for name, do := range map[string]func(context.Context, int64) error{"stop": a.Jobs.Stop, "resume": a.Jobs.Resume} {
		summary := map[string]string{"stop": "Stop a run; what it did is kept", "resume": "Go on with a run that stopped or failed"}[name]
		route(a, model.Operator, huma.Operation{OperationID: name + "-run", Method: "POST", Path: "/runs/{run}/" + name, Summary: summary, Tags: tags, DefaultStatus: 202},
			func(ctx context.Context, in *RunPath) (*body[model.Run], error) {
				if err := do(ctx, in.Run); err != nil {
					return nil, err
				}
				r, err := a.Jobs.Get(ctx, in.Run)
				return &body[model.Run]{r}, err
			})
	}
	route(a, model.Operator, huma.Operation{OperationID: "remove-run", Method: "DELETE", Path: "/runs/{run}", Summary: "Forget a run that ended, and what it found", Tags: tags, DefaultStatus: 204},
		func(ctx context.Context, in *RunPath) (*none, error) {
			return nil, a.Jobs.Remove(ctx, in.Run)
		})
	a.surveyRoutes()
}

func (a *API) surveyRoutes() {
	tags := []string{"Surveys"}
	route(a, model.Operator, huma.Operation{OperationID: "start-survey", Method: "POST", Path: "/surveys", Summary: "Survey one or more shares", Tags: tags, DefaultStatus: 202},
		func(ctx context.Context, in *body[model.NewSurveys]) (*body[model.Begun], error) {
			list, err := a.Surveys.Start(ctx, in.Body.Places)
			return &body[model.Begun]{model.Begun{Runs: list}}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "list-surveys", Method: "GET", Path: "/surveys", Summary: "List surveys, newest first", Tags: tags},
		func(ctx context.Context, in *struct {
			NumberedPart
			Server string `query:"server" doc:"Of a share of this server; name the share too"`
			Share  string `query:"share" doc:"Of this share"`
		}) (*body[model.Page[model.Run]], error) {
			return runPage(in.NumberedPart, func(before int64, limit int) ([]model.Run, error) {
				return a.Surveys.List(ctx, in.Server, in.Share, before, limit)
			})
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-survey", Method: "GET", Path: "/surveys/{run}", Summary: "Show a survey as far as it is", Tags: tags},
		func(ctx context.Context, in *RunPath) (*body[model.Survey], error) {
			s, err := a.Surveys.Get(ctx, in.Run)
			return &body[model.Survey]{s}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "compare-surveys", Method: "GET", Path: "/surveys/{run}/since/{earlier}", Summary: "Tell what changed between two surveys", Tags: tags},
		func(ctx context.Context, in *struct {
			RunPath
			Earlier int64 `path:"earlier" minimum:"1" maximum:"9007199254740991" doc:"Number of the earlier survey"`
		}) (*body[model.SurveyComparison], error) {
			c, err := a.Surveys.Compare(ctx, in.Earlier, in.Run)
			return &body[model.SurveyComparison]{c}, err
		})
}
