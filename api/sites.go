package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/core/namespace"
	"bridgespan/model"
)

// SitePath names a site.
type SitePath struct {
	Site string `path:"site" doc:"Name of the site"`
}

func (a *API) siteRoutes() {
	tags := []string{"Sites"}
	route(a, model.Viewer, huma.Operation{OperationID: "list-sites", Method: "GET", Path: "/sites", Summary: "List sites", Tags: tags},
		func(ctx context.Context, in *PageIn) (*body[model.Page[model.Site]], error) {
			return paged(in, a.Estate.Sites, func(s model.Site) string { return s.Name })(ctx)
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-site", Method: "GET", Path: "/sites/{site}", Summary: "Show a site", Tags: tags},
		func(ctx context.Context, in *SitePath) (*tagged[model.Site], error) { return a.site(ctx, in.Site) })
	change(a, model.Administrator, huma.Operation{OperationID: "add-site", Method: "POST", Path: "/sites", Summary: "Add a site", Tags: tags, DefaultStatus: 201},
		func(ctx context.Context, in *body[model.NewSite]) (*tagged[model.Site], error) {
			if err := a.Estate.AddSite(ctx, model.Site{Name: in.Body.Name, Note: in.Body.Note}); err != nil {
				return nil, err
			}
			return a.site(ctx, in.Body.Name)
		})
	change(a, model.Administrator, huma.Operation{OperationID: "edit-site", Method: "PATCH", Path: "/sites/{site}", Summary: "Change a site", Tags: tags}, a.editSite)
	change(a, model.Administrator, huma.Operation{OperationID: "remove-site", Method: "DELETE", Path: "/sites/{site}", Summary: "Remove a site without servers, and its legs", Tags: tags, DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			SitePath
			Guard
		}) (*none, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			return nil, a.Estate.RemoveSite(ctx, in.Site, version)
		})
	a.legRoutes()
}

func (a *API) site(ctx context.Context, name string) (*tagged[model.Site], error) {
	s, err := a.Estate.Site(ctx, name)
	return &tagged[model.Site]{etag(s.Version), s}, err
}

func (a *API) editSite(ctx context.Context, in *struct {
	SitePath
	Guard
	Sent[model.EditSite]
}) (*tagged[model.Site], error) {
	site, err := a.Estate.Site(ctx, in.Site)
	if err != nil {
		return nil, err
	}
	if site.Version, err = in.version(); err != nil {
		return nil, err
	}
	model.Take(&site.Name, in.Body.Name)
	model.Take(&site.Note, in.Body.Note)
	if err := a.Estate.EditSite(ctx, in.Site, site); err != nil {
		return nil, err
	}
	return a.site(ctx, site.Name)
}

// LegEnds names a leg by the sites that it connects.
type LegEnds struct {
	From string `path:"from" doc:"One site"`
	To   string `path:"to" doc:"The other site"`
}

func (a *API) legRoutes() {
	tags := []string{"Sites"}
	const path = "/legs/{from}/{to}"
	route(a, model.Viewer, huma.Operation{OperationID: "list-legs", Method: "GET", Path: "/legs", Summary: "List the legs between sites", Tags: tags},
		func(ctx context.Context, _ *none) (*body[model.LegList], error) {
			legs, err := a.Estate.Legs(ctx)
			return &body[model.LegList]{model.LegList{Legs: legs}}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-leg", Method: "GET", Path: path, Summary: "Show the leg between two sites", Tags: tags},
		func(ctx context.Context, in *LegEnds) (*tagged[namespace.Leg], error) { return a.leg(ctx, *in) })
	change(a, model.Administrator, huma.Operation{OperationID: "set-leg", Method: "PUT", Path: path, Summary: "Add or change the leg between two sites", Tags: tags,
		Description: "Without If-Match it adds a leg, and refuses when there is one; with If-Match it changes what is there."}, a.setLeg)
	change(a, model.Administrator, huma.Operation{OperationID: "remove-leg", Method: "DELETE", Path: path, Summary: "Remove the leg between two sites", Tags: tags, DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			LegEnds
			Guard
		}) (*none, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			return nil, a.Estate.RemoveLeg(ctx, in.From, in.To, version)
		})
}

func (a *API) leg(ctx context.Context, ends LegEnds) (*tagged[namespace.Leg], error) {
	l, err := a.Estate.Leg(ctx, ends.From, ends.To)
	return &tagged[namespace.Leg]{etag(l.Version), l}, err
}

func (a *API) setLeg(ctx context.Context, in *struct {
	LegEnds
	Guard
	Sent[model.SetLeg]
}) (*tagged[namespace.Leg], error) {
	leg := namespace.Leg{From: in.From, To: in.To, Mbit: in.Body.Mbit, RTT: in.Body.RTT, Cost: in.Body.Cost, BackMbit: in.Body.BackMbit, BackCost: in.Body.BackCost}.Symmetric()
	if in.IfMatch != "" {
		var err error
		if leg.Version, err = in.version(); err != nil {
			return nil, err
		}
	}
	if err := a.Estate.SetLeg(ctx, leg); err != nil {
		return nil, err
	}
	return a.leg(ctx, in.LegEnds)
}
