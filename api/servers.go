package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/core/fault"
	"bridgespan/model"
)

// ServerPath names a server.
type ServerPath struct {
	Server string `path:"server" doc:"Name of the server"`
}

func (a *API) serverRoutes() {
	tags := []string{"Servers"}
	route(a, model.Viewer, huma.Operation{OperationID: "list-servers", Method: "GET", Path: "/servers", Summary: "List servers", Tags: tags},
		func(ctx context.Context, in *PageIn) (*body[model.Page[model.Server]], error) {
			return paged(in, a.Estate.Servers, func(v model.Server) string { return v.Name })(ctx)
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-server", Method: "GET", Path: "/servers/{server}", Summary: "Show a server", Tags: tags},
		func(ctx context.Context, in *ServerPath) (*tagged[model.Server], error) {
			return a.server(ctx, in.Server)
		})
	change(a, model.Administrator, huma.Operation{OperationID: "add-server", Method: "POST", Path: "/servers", Summary: "Add a server", Tags: tags, DefaultStatus: 201,
		Description: "Signs in to it for real first, unless told not to; when that fails nothing is stored."}, a.addServer)
	change(a, model.Administrator, huma.Operation{OperationID: "edit-server", Method: "PATCH", Path: "/servers/{server}", Summary: "Change a server", Tags: tags}, a.editServer)
	change(a, model.Administrator, huma.Operation{OperationID: "remove-server", Method: "DELETE", Path: "/servers/{server}", Summary: "Remove a server that no signpost leads to", Tags: tags, DefaultStatus: 204,
		Description: "The server itself is left alone."},
		func(ctx context.Context, in *struct {
			ServerPath
			Guard
			Detach bool `query:"detach" doc:"Remove its locations from signposts as well, where others are left"`
		}) (*none, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			return nil, a.Estate.RemoveServer(ctx, in.Server, version, in.Detach)
		})
	route(a, model.Operator, huma.Operation{OperationID: "check-server", Method: "POST", Path: "/servers/{server}/check", Summary: "Try a server for real, line by line", Tags: tags},
		func(ctx context.Context, in *ServerPath) (*body[model.Check], error) {
			check, err := a.Estate.Check(ctx, in.Server)
			return &body[model.Check]{check}, err
		})
	a.shareRoutes()
}

func (a *API) server(ctx context.Context, name string) (*tagged[model.Server], error) {
	v, err := a.Estate.Server(ctx, name)
	return &tagged[model.Server]{etag(v.Version), v}, err
}

func (a *API) addServer(ctx context.Context, in *body[model.NewServer]) (*tagged[model.Server], error) {
	n := in.Body
	v := model.Server{Name: n.Name, Site: n.Site, Address: n.Address, Port: n.Port, Domain: n.Domain, Account: n.Account, Certificate: n.Certificate, Cloud: n.Cloud, Note: n.Note, Unsigned: n.Unsigned, ViewersBrowse: n.ViewersBrowse, PeopleName: n.PeopleName, Beside: n.Beside}
	if err := withProxyPassword(&v, n.ProxyPassword); err != nil {
		return nil, err
	}
	if err := a.Estate.AddServer(ctx, v, n.Password, n.Unchecked); err != nil {
		return nil, err
	}
	return a.server(ctx, n.Name)
}

func withProxyPassword(v *model.Server, password string) error {
	switch {
	case v.Cloud != nil:
		v.Cloud.ProxyPassword = model.Secret(password)
	case password != "":
		return fault.Field("proxyPassword", "leave it out", "only an account at an object service has a proxy")
	}
	return nil
}

func (a *API) editServer(ctx context.Context, in *struct {
	ServerPath
	Guard
	Sent[model.EditServer]
}) (*tagged[model.Server], error) {
	v, err := a.Estate.Server(ctx, in.Server)
	if err != nil {
		return nil, err
	}
	if v.Version, err = in.version(); err != nil {
		return nil, err
	}
	e := in.Body
	model.Take(&v.Name, e.Name)
	model.Take(&v.Site, e.Site)
	model.Take(&v.Address, e.Address)
	model.Take(&v.Port, e.Port)
	model.Take(&v.Domain, e.Domain)
	model.Take(&v.Account, e.Account)
	model.Take(&v.Certificate, e.Certificate)
	if e.Cloud != nil {
		v.Cloud = e.Cloud
	}
	model.Take(&v.Note, e.Note)
	model.Take(&v.Unsigned, e.Unsigned)
	model.Take(&v.ViewersBrowse, e.ViewersBrowse)
	model.Take(&v.PeopleName, e.PeopleName)
	model.Take(&v.Beside, e.Beside)
	if err := withProxyPassword(&v, e.ProxyPassword); err != nil {
		return nil, err
	}
	if err := a.Estate.EditServer(ctx, in.Server, v, e.Password, e.Unchecked); err != nil {
		return nil, err
	}
	return a.server(ctx, v.Name)
}
