package api

import (
	"bufio"
	"context"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/core/dedup"
	"bridgespan/model"
)

// VolumePath names a volume that was estimated.
type VolumePath struct {
	Volume string `path:"volume" doc:"Name of the volume"`
}

func (a *API) dedupRoutes() {
	tags := []string{"Deduplication"}
	route(a, model.Operator, huma.Operation{OperationID: "start-estimate", Method: "POST", Path: "/dedup/estimates", Summary: "Estimate what deduplication would save on a volume", Tags: tags, DefaultStatus: 202},
		func(ctx context.Context, in *body[model.NewEstimate]) (*body[model.Estimate], error) {
			e, err := a.Estimates.Start(ctx, in.Body)
			return &body[model.Estimate]{e}, err
		})
	route(a, model.Operator, huma.Operation{OperationID: "schedule-estimate", Method: "POST", Path: "/dedup/estimates/jobs", Summary: "Save an estimate that is done again and again", Tags: tags, DefaultStatus: 201},
		func(ctx context.Context, in *Sent[model.ScheduleEstimate]) (*body[model.Job], error) {
			job, err := a.Estimates.Schedule(ctx, in.Body)
			return &body[model.Job]{job}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "list-stores", Method: "GET", Path: "/dedup/stores", Summary: "List the chunk stores that proofs have kept, newest first", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*body[model.Page[model.KeptStore]], error) {
			list, err := a.Estimates.Stores(ctx)
			return &body[model.Page[model.KeptStore]]{model.Page[model.KeptStore]{Items: list}}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-store", Method: "GET", Path: "/dedup/stores/{run}", Summary: "Show a chunk store that a proof has kept", Tags: tags},
		func(ctx context.Context, in *RunPath) (*tagged[model.KeptStore], error) {
			k, err := a.Estimates.Store(ctx, in.Run)
			return &tagged[model.KeptStore]{etag(k.Version), k}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "list-store-chunks", Method: "GET", Path: "/dedup/stores/{run}/chunks", Summary: "List the chunks of a kept store that occur most", Tags: tags},
		func(ctx context.Context, in *struct {
			RunPath
			Limit int `query:"limit" minimum:"1" maximum:"1000" default:"50" doc:"How many at most"`
		}) (*body[model.Page[dedup.StoredChunk]], error) {
			list, err := a.Estimates.StoreChunks(ctx, in.Run, in.Limit)
			return &body[model.Page[dedup.StoredChunk]]{model.Page[dedup.StoredChunk]{Items: list}}, err
		})
	change(a, model.Operator, huma.Operation{OperationID: "remove-store", Method: "DELETE", Path: "/dedup/stores/{run}", Summary: "Remove a chunk store that a proof has kept", Tags: tags, DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			RunPath
			Guard
		}) (*none, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			return nil, a.Estimates.RemoveStore(ctx, in.Run, version)
		})
	route(a, model.Viewer, huma.Operation{OperationID: "look-before-estimate", Method: "POST", Path: "/dedup/look", Summary: "Tell what speaks against an estimate before it is begun", Tags: tags},
		func(ctx context.Context, in *body[model.NewEstimate]) (*body[model.DedupLook], error) {
			l, err := a.Estimates.Look(ctx, in.Body)
			return &body[model.DedupLook]{l}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-estimate", Method: "GET", Path: "/dedup/estimates/{run}", Summary: "Show an estimate as far as it is", Tags: tags},
		func(ctx context.Context, in *RunPath) (*body[model.Estimate], error) {
			e, err := a.Estimates.Get(ctx, in.Run)
			return &body[model.Estimate]{e}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-estimate-report", Method: "GET", Path: "/dedup/estimates/{run}/report", Summary: "Get an estimate as a page that needs nothing else", Tags: tags},
		func(ctx context.Context, in *RunPath) (*huma.StreamResponse, error) {
			return a.text(ctx, "text/html; charset=utf-8", "estimate.html", func(w *bufio.Writer) error { return a.Estimates.Report(ctx, in.Run, w) })
		})
	route(a, model.Viewer, huma.Operation{OperationID: "compare-estimates", Method: "GET", Path: "/dedup/estimates/{run}/since/{earlier}", Summary: "Show two estimates side by side", Tags: tags},
		func(ctx context.Context, in *struct {
			RunPath
			Earlier int64 `path:"earlier" minimum:"1" maximum:"9007199254740991" doc:"Number of the earlier estimate"`
		}) (*body[model.EstimateComparison], error) {
			c, err := a.Estimates.Compare(ctx, in.Earlier, in.Run)
			return &body[model.EstimateComparison]{c}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "list-dedup-volumes", Method: "GET", Path: "/dedup/volumes", Summary: "List the volumes that were estimated, with what came of it", Tags: tags},
		func(ctx context.Context, in *PageIn) (*body[model.Page[model.EstimatedVolume]], error) {
			return paged(in, a.Estimates.Volumes, func(v model.EstimatedVolume) string { return v.Name })(ctx)
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-dedup-volume", Method: "GET", Path: "/dedup/volumes/{volume}", Summary: "Show a volume that was estimated", Tags: tags},
		func(ctx context.Context, in *VolumePath) (*tagged[model.EstimatedVolume], error) {
			v, err := a.Estimates.Volume(ctx, in.Volume)
			return &tagged[model.EstimatedVolume]{etag(v.Version), v}, err
		})
	route(a, model.Operator, huma.Operation{OperationID: "start-what-if", Method: "POST", Path: "/dedup/volumes/{volume}/what-ifs", Summary: "Count what another policy would save, from what was read", Tags: tags, DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			VolumePath
			Body model.WhatIf
		}) (*body[model.WhatIfAnswer], error) {
			w, err := a.Estimates.StartWhatIf(ctx, in.Volume, in.Body)
			return &body[model.WhatIfAnswer]{w}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-what-if", Method: "GET", Path: "/dedup/what-ifs/{run}", Summary: "Show what another policy would save, once that is counted", Tags: tags},
		func(ctx context.Context, in *RunPath) (*body[model.WhatIfAnswer], error) {
			w, err := a.Estimates.WhatIf(ctx, in.Run)
			return &body[model.WhatIfAnswer]{w}, err
		})
	route(a, model.Operator, huma.Operation{OperationID: "start-pool", Method: "POST", Path: "/dedup/pools", Summary: "Count what volumes would save together, and which shares should live together", Tags: tags, DefaultStatus: 202},
		func(ctx context.Context, in *body[model.NewPool]) (*body[model.DedupPool], error) {
			p, err := a.Estimates.StartPool(ctx, in.Body)
			return &body[model.DedupPool]{p}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-pool", Method: "GET", Path: "/dedup/pools/{run}", Summary: "Show what volumes would save together, once that is counted", Tags: tags},
		func(ctx context.Context, in *RunPath) (*body[model.DedupPool], error) {
			p, err := a.Estimates.Pool(ctx, in.Run)
			return &body[model.DedupPool]{p}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "plan-dedup", Method: "POST", Path: "/dedup/volumes/{volume}/plan", Summary: "Tell when the work could be done, in the hours that are left free", Tags: tags},
		func(ctx context.Context, in *struct {
			VolumePath
			Body model.NewDedupPlan
		}) (*body[model.DedupPlan], error) {
			p, err := a.Estimates.Plan(ctx, in.Volume, in.Body)
			return &body[model.DedupPlan]{p}, err
		})
	route(a, model.Operator, huma.Operation{OperationID: "prove-estimate", Method: "POST", Path: "/dedup/volumes/{volume}/proofs", Summary: "Pack a folder into a chunk store, take it out again, and compare", Tags: tags, DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			VolumePath
			Body model.NewProof
		}) (*body[model.Proof], error) {
			p, err := a.Estimates.Prove(ctx, in.Volume, in.Body)
			return &body[model.Proof]{p}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-proof", Method: "GET", Path: "/dedup/proofs/{run}", Summary: "Show a proof as far as it is", Tags: tags},
		func(ctx context.Context, in *RunPath) (*body[model.Proof], error) {
			p, err := a.Estimates.Proof(ctx, in.Run)
			return &body[model.Proof]{p}, err
		})
	change(a, model.Operator, huma.Operation{OperationID: "forget-dedup-volume", Method: "DELETE", Path: "/dedup/volumes/{volume}", Summary: "Forget a volume and what was read of it; the volume itself is not touched", Tags: tags, DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			VolumePath
			Guard
		}) (*none, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			return nil, a.Estimates.Forget(ctx, in.Volume, version)
		})
}
