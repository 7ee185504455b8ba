package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/naming"
)

// NamespacePath names a namespace.
type NamespacePath struct {
	Namespace string `path:"namespace" doc:"Name of the namespace"`
}

// EntryPath names an entry by its number.
type EntryPath struct {
	NamespacePath
	Entry int64 `path:"entry" minimum:"1" maximum:"9007199254740991" doc:"Number of the entry"`
}

// LocationPath names a location by its number.
type LocationPath struct {
	EntryPath
	Location int64 `path:"location" minimum:"1" maximum:"9007199254740991" doc:"Number of the location"`
}

func (a *API) namespaceRoutes() {
	tags := []string{"Namespaces"}
	route(a, model.Viewer, huma.Operation{OperationID: "list-namespaces", Method: "GET", Path: "/namespaces", Summary: "List namespaces", Tags: tags},
		func(ctx context.Context, in *PageIn) (*body[model.Page[model.Namespace]], error) {
			return paged(in, a.Naming.Namespaces, func(n model.Namespace) string { return n.Name })(ctx)
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-namespace", Method: "GET", Path: "/namespaces/{namespace}", Summary: "Show a namespace", Tags: tags},
		func(ctx context.Context, in *NamespacePath) (*tagged[model.Namespace], error) {
			return a.namespace(ctx, in.Namespace)
		})
	change(a, model.Operator, huma.Operation{OperationID: "add-namespace", Method: "POST", Path: "/namespaces", Summary: "Add an empty namespace", Tags: tags, DefaultStatus: 201},
		func(ctx context.Context, in *body[model.NewNamespace]) (*tagged[model.Namespace], error) {
			n := model.Namespace{Name: in.Body.Name, Note: in.Body.Note, TTL: in.Body.TTL, Returns: in.Body.Returns, Hiding: in.Body.Hiding}
			if err := a.Naming.AddNamespace(ctx, n); err != nil {
				return nil, err
			}
			return a.namespace(ctx, n.Name)
		})
	change(a, model.Operator, huma.Operation{OperationID: "edit-namespace", Method: "PATCH", Path: "/namespaces/{namespace}", Summary: "Change how a namespace is kept and shown", Tags: tags},
		func(ctx context.Context, in *struct {
			NamespacePath
			Guard
			Sent[model.EditNamespace]
		}) (*tagged[model.Namespace], error) {
			n, err := a.Naming.Namespace(ctx, in.Namespace)
			if err != nil {
				return nil, err
			}
			if n.Version, err = in.version(); err != nil {
				return nil, err
			}
			model.Take(&n.Note, in.Body.Note)
			model.Take(&n.TTL, in.Body.TTL)
			model.Take(&n.Returns, in.Body.Returns)
			model.Take(&n.Hiding, in.Body.Hiding)
			if err := a.Naming.EditNamespace(ctx, n); err != nil {
				return nil, err
			}
			return a.namespace(ctx, n.Name)
		})
	change(a, model.Operator, huma.Operation{OperationID: "remove-namespace", Method: "DELETE", Path: "/namespaces/{namespace}", Summary: "Remove a namespace; no file is touched", Tags: tags, DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			NamespacePath
			Guard
			WithEntries bool `query:"withEntries" doc:"Remove it although it has entries, and them with it"`
		}) (*none, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			return nil, a.Naming.RemoveNamespace(ctx, in.Namespace, version, in.WithEntries)
		})
	a.entryRoutes()
	a.locationRoutes()
	a.healthRoutes()
	a.documentRoutes()
}

// directionsRoute is registered before all others: routes are tried in their
// order, and this one is asked most.
func (a *API) directionsRoute() {
	route(a, model.Viewer, huma.Operation{OperationID: "get-directions", Method: "GET", Path: "/directions", Summary: "Where a path leads, in which order, and why", Tags: []string{"Directions"}},
		func(ctx context.Context, in *struct {
			Path    string `query:"path" required:"true" doc:"Full path, such as /trust/herbarium"`
			From    string `query:"from" doc:"Site that the person is at"`
			As      string `query:"as" doc:"Account of the person"`
			Fresh   bool   `query:"fresh" doc:"Read everything for this answer, past what is remembered"`
			Through string `query:"through" enum:",gateway,front" doc:"front: as the front at that site gives them; gateway, or absent: as the gateway does"`
			May     bool   `query:"rights" doc:"Also ask the file server what the account may do there"`
		}) (*body[model.Directions], error) {
			where := a.Naming.Where
			if in.Fresh {
				where = a.Naming.WhereNow
			}
			d, err := where(ctx, in.Path, namespace.Traveller{Site: in.From, Person: in.As})
			if err == nil && in.Through == "front" {
				d, err = a.Fronts.Where(ctx, in.Path, in.From, in.Fresh)
				d.As = in.As
			}
			if err == nil && in.May {
				a.Lens.MayThere(ctx, &d)
			}
			return &body[model.Directions]{d}, err
		})
}

func (a *API) namespace(ctx context.Context, name string) (*tagged[model.Namespace], error) {
	n, err := a.Naming.Namespace(ctx, name)
	return &tagged[model.Namespace]{etag(n.Version), n}, err
}

func (a *API) entryRoutes() {
	tags := []string{"Entries"}
	route(a, model.Viewer, huma.Operation{OperationID: "list-entries", Method: "GET", Path: "/namespaces/{namespace}/entries", Summary: "List the entries of a namespace in order of path", Tags: tags},
		func(ctx context.Context, in *struct {
			NamespacePath
			PageIn
			Path   string `query:"path" doc:"The entry at this path alone"`
			InNeed bool   `query:"inNeed" doc:"Only signposts of which a location is held or not well, and only the first part of them"`
		}) (*body[model.Page[namespace.Entry]], error) {
			if in.Path != "" {
				e, err := a.Naming.EntryAt(ctx, in.Namespace, in.Path)
				return &body[model.Page[namespace.Entry]]{model.Page[namespace.Entry]{Items: []namespace.Entry{e}}}, err
			}
			if in.InNeed {
				list, err := a.Naming.InNeed(ctx, in.Namespace, in.Limit)
				return &body[model.Page[namespace.Entry]]{model.Page[namespace.Entry]{Items: list}}, err
			}
			list := func(ctx context.Context, page records.Page) ([]namespace.Entry, error) {
				return a.Naming.Entries(ctx, in.Namespace, page)
			}
			return paged(&in.PageIn, list, func(e namespace.Entry) string { return e.Path })(ctx)
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-entry", Method: "GET", Path: "/namespaces/{namespace}/entries/{entry}", Summary: "Show an entry", Tags: tags},
		func(ctx context.Context, in *EntryPath) (*tagged[namespace.Entry], error) { return a.entry(ctx, *in) })
	change(a, model.Operator, huma.Operation{OperationID: "add-entry", Method: "POST", Path: "/namespaces/{namespace}/entries", Summary: "Add a folder or signpost, and the folders above it", Tags: tags, DefaultStatus: 201,
		Description: "Every location is opened for real first; when one cannot be, nothing is stored."},
		func(ctx context.Context, in *struct {
			NamespacePath
			Sent[model.NewEntry]
		}) (*tagged[namespace.Entry], error) {
			n := in.Body
			e, err := a.Naming.AddEntry(ctx, in.Namespace, namespace.Entry{Path: n.Path, Kind: n.Kind, Note: n.Note, TTL: n.TTL}, newLocations(n.Locations))
			return &tagged[namespace.Entry]{etag(e.Version), e}, err
		})
	change(a, model.Operator, huma.Operation{OperationID: "edit-entry", Method: "PATCH", Path: "/namespaces/{namespace}/entries/{entry}", Summary: "Change an entry, or move it with everything below it", Tags: tags},
		func(ctx context.Context, in *struct {
			EntryPath
			Guard
			Sent[model.EditEntry]
		}) (*tagged[namespace.Entry], error) {
			return a.changeEntry(ctx, in.EntryPath, in.Guard, func(version int64) error {
				return a.Naming.EditEntry(ctx, in.Namespace, in.Entry, version, in.Body)
			})
		})
	change(a, model.Operator, huma.Operation{OperationID: "remove-entry", Method: "DELETE", Path: "/namespaces/{namespace}/entries/{entry}", Summary: "Remove an entry; no file is touched", Tags: tags, DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			EntryPath
			Guard
		}) (*none, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			return nil, a.Naming.RemoveEntry(ctx, in.Namespace, in.Entry, version)
		})
}

func (a *API) healthRoutes() {
	tags := []string{"Entries"}
	route(a, model.Operator, huma.Operation{OperationID: "check-locations", Method: "POST", Path: "/namespaces/{namespace}/check", Summary: "Look at locations now", Tags: tags,
		Description: "What is found counts at once; otherwise two looks in a row must agree."},
		func(ctx context.Context, in *struct {
			NamespacePath
			Path string `query:"path" doc:"Of this entry and everything below it; absent for the whole namespace"`
		}) (*body[model.LocationChecks], error) {
			list, err := a.Naming.Check(ctx, in.Namespace, in.Path)
			return &body[model.LocationChecks]{model.LocationChecks{Locations: list}}, err
		})
	route(a, model.Operator, huma.Operation{OperationID: "verify-location", Method: "POST", Path: "/namespaces/{namespace}/entries/{entry}/locations/{location}/verify", Summary: "Find out whether a location holds what another one holds", Tags: tags, DefaultStatus: 202,
		Description: "Names, sizes, times and permissions are compared. A location that is held until verified opens by itself when nothing unexplained differs."},
		func(ctx context.Context, in *struct {
			LocationPath
			Against string `query:"against" doc:"Location to compare with, as SERVER/SHARE[/FOLDER]; an open one when absent"`
		}) (*body[model.Verification], error) {
			v, err := a.Verify.Start(ctx, in.Namespace, in.Entry, in.Location, in.Against)
			return &body[model.Verification]{v}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-verification", Method: "GET", Path: "/verifications/{run}", Summary: "Show a verification as far as it is", Tags: tags},
		func(ctx context.Context, in *RunPath) (*body[model.Verification], error) {
			v, err := a.Verify.Get(ctx, in.Run)
			return &body[model.Verification]{v}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-health", Method: "GET", Path: "/namespaces/{namespace}/entries/{entry}/health", Summary: "How the locations of an entry were found over time, latest first", Tags: tags},
		func(ctx context.Context, in *EntryPath) (*body[model.HealthHistory], error) {
			list, err := a.Naming.Health(ctx, in.Namespace, in.Entry)
			return &body[model.HealthHistory]{model.HealthHistory{Spells: list}}, err
		})
}

func (a *API) entry(ctx context.Context, in EntryPath) (*tagged[namespace.Entry], error) {
	e, err := a.Naming.Entry(ctx, in.Namespace, in.Entry)
	return &tagged[namespace.Entry]{etag(e.Version), e}, err
}

// changeEntry makes a guarded change and returns the entry as it is after it.
func (a *API) changeEntry(ctx context.Context, in EntryPath, g Guard, change func(version int64) error) (*tagged[namespace.Entry], error) {
	version, err := g.version()
	if err != nil {
		return nil, err
	}
	if err := change(version); err != nil {
		return nil, err
	}
	return a.entry(ctx, in)
}

func newLocations(sent []model.NewLocation) []naming.NewLocation {
	var list []naming.NewLocation
	for _, l := range sent {
		list = append(list, naming.NewLocation{Target: namespace.Target{Server: l.Server, Share: l.Share, Sub: l.Sub}, Rank: l.Rank, Weight: l.Weight, OnlyFor: l.OnlyFor, OpenNow: l.OpenNow})
	}
	return list
}

func (a *API) locationRoutes() {
	tags := []string{"Entries"}
	const path = "/namespaces/{namespace}/entries/{entry}/locations"
	change(a, model.Operator, huma.Operation{OperationID: "add-location", Method: "POST", Path: path, Summary: "Add a location to a signpost", Tags: tags, DefaultStatus: 201,
		Description: "It is held until it is verified, unless it is opened at once."},
		func(ctx context.Context, in *struct {
			EntryPath
			Guard
			Sent[model.NewLocation]
		}) (*tagged[namespace.Entry], error) {
			return a.changeEntry(ctx, in.EntryPath, in.Guard, func(version int64) error {
				return a.Naming.AddLocation(ctx, in.Namespace, in.Entry, version, newLocations([]model.NewLocation{in.Body})[0])
			})
		})
	change(a, model.Operator, huma.Operation{OperationID: "edit-location", Method: "PATCH", Path: path + "/{location}", Summary: "Open, hold, rank or weigh a location, or say for whom it is", Tags: tags},
		func(ctx context.Context, in *struct {
			LocationPath
			Guard
			Sent[model.EditLocation]
		}) (*tagged[namespace.Entry], error) {
			return a.changeEntry(ctx, in.EntryPath, in.Guard, func(version int64) error {
				return a.Naming.EditLocation(ctx, in.Namespace, in.Entry, version, in.Location, in.Body)
			})
		})
	change(a, model.Operator, huma.Operation{OperationID: "remove-location", Method: "DELETE", Path: path + "/{location}", Summary: "Remove a location; no file is touched", Tags: tags},
		func(ctx context.Context, in *struct {
			LocationPath
			Guard
		}) (*tagged[namespace.Entry], error) {
			return a.changeEntry(ctx, in.EntryPath, in.Guard, func(version int64) error {
				return a.Naming.RemoveLocation(ctx, in.Namespace, in.Entry, version, in.Location)
			})
		})
}
