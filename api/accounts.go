package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/core/fault"
	"bridgespan/model"
)

// directoryList is every domain; there are too few to page.
type directoryList struct {
	Directories []model.Directory `json:"directories" doc:"The domains, by name"`
}

// DirectoryPath names a domain.
type DirectoryPath struct {
	Directory string `path:"directory" doc:"Short name of the domain"`
}

func (a *API) directoryRoutes() {
	tags := []string{"Accounts"}
	route(a, model.Viewer, huma.Operation{OperationID: "list-directories", Method: "GET", Path: "/directories", Summary: "List the domains whose accounts are asked for", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*body[directoryList], error) {
			list, err := a.Accounts.Directories(ctx)
			return &body[directoryList]{directoryList{list}}, err
		})
	route(a, model.Administrator, huma.Operation{OperationID: "add-directory", Method: "POST", Path: "/directories", Summary: "Add a domain", Tags: tags, DefaultStatus: 201,
		Description: "Signs in to its directory for real first; when that fails nothing is stored. The directory is only ever read."},
		func(ctx context.Context, in *body[model.NewDirectory]) (*tagged[model.Directory], error) {
			d, err := a.Accounts.AddDirectory(ctx, in.Body)
			return &tagged[model.Directory]{etag(d.Version), d}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-directory", Method: "GET", Path: "/directories/{directory}", Summary: "Show a domain", Tags: tags},
		func(ctx context.Context, in *DirectoryPath) (*tagged[model.Directory], error) {
			d, err := a.Accounts.Directory(ctx, in.Directory)
			return &tagged[model.Directory]{etag(d.Version), d}, err
		})
	change(a, model.Administrator, huma.Operation{OperationID: "remove-directory", Method: "DELETE", Path: "/directories/{directory}", Summary: "Forget a domain", Tags: tags, DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			DirectoryPath
			Guard
		}) (*none, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			return nil, a.Accounts.RemoveDirectory(ctx, in.Directory, version)
		})
	a.accountRoutes()
	a.accountMapRoutes()
	a.localAccountRoutes()
}

func (a *API) accountRoutes() {
	tags := []string{"Accounts"}
	route(a, model.Viewer, huma.Operation{OperationID: "list-accounts", Method: "GET", Path: "/accounts", Summary: "List accounts of a server itself or of a domain", Tags: tags},
		func(ctx context.Context, in *struct {
			Server string `query:"server" doc:"Of this server itself"`
			Domain string `query:"domain" doc:"Of this domain"`
			Filter string `query:"filter" doc:"Part of the name"`
		}) (*body[model.AccountList], error) {
			if (in.Server == "") == (in.Domain == "") {
				return nil, fault.Field("server", "name either a server or a domain", "accounts belong to a server or to a domain")
			}
			if in.Domain != "" {
				list, err := a.Accounts.OfDomain(ctx, in.Domain, in.Filter)
				return &body[model.AccountList]{list}, err
			}
			list, err := a.Accounts.OfServer(ctx, in.Server, in.Filter)
			return &body[model.AccountList]{list}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-account", Method: "GET", Path: "/servers/{server}/accounts/{account}", Summary: "Tell all about an account as a server sees it", Tags: tags,
		Description: "With every group that it belongs to, however they are nested."},
		func(ctx context.Context, in *struct {
			ServerPath
			Account string `path:"account" doc:"Name or SID"`
		}) (*body[model.AccountDetail], error) {
			d, err := a.Accounts.Detail(ctx, in.Server, in.Account)
			return &body[model.AccountDetail]{d}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "list-volumes", Method: "GET", Path: "/servers/{server}/volumes", Summary: "Tell the storage under the shares of a server", Tags: []string{"Servers"}},
		func(ctx context.Context, in *ServerPath) (*body[volumeList], error) {
			list, err := a.Estate.Volumes(ctx, in.Server)
			return &body[volumeList]{volumeList{list}}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-server-use", Method: "GET", Path: "/servers/{server}/use", Summary: "Tell who is connected to a server, and what is open", Tags: []string{"Servers"}},
		func(ctx context.Context, in *ServerPath) (*body[model.ServerUse], error) {
			use, err := a.Accounts.Use(ctx, in.Server)
			return &body[model.ServerUse]{use}, err
		})
}

// volumeList is the volumes of a server.
type volumeList struct {
	Volumes []model.Volume `json:"volumes"`
}

// GroupPath names a group of a server itself.
type GroupPath struct {
	ServerPath
	Group string `path:"group" doc:"Name or SID of the group"`
}

func (a *API) localAccountRoutes() {
	tags := []string{"Accounts"}
	route(a, model.Administrator, huma.Operation{OperationID: "create-local-user", Method: "POST", Path: "/servers/{server}/users", Summary: "Make a user of a server itself", Tags: tags, DefaultStatus: 201},
		func(ctx context.Context, in *struct {
			ServerPath
			Sent[model.NewLocalUser]
		}) (*body[model.Account], error) {
			made, err := a.Accounts.CreateUser(ctx, in.Server, in.Body.Name, in.Body.Password)
			return &body[model.Account]{made}, err
		})
	route(a, model.Administrator, huma.Operation{OperationID: "create-local-group", Method: "POST", Path: "/servers/{server}/groups", Summary: "Make a group of a server itself", Tags: tags, DefaultStatus: 201},
		func(ctx context.Context, in *struct {
			ServerPath
			Sent[model.NewLocalGroup]
		}) (*body[model.Account], error) {
			made, err := a.Accounts.CreateGroup(ctx, in.Server, in.Body.Name)
			return &body[model.Account]{made}, err
		})
	route(a, model.Administrator, huma.Operation{OperationID: "remove-local-group", Method: "DELETE", Path: "/servers/{server}/groups/{group}", Summary: "Remove a group of a server itself", Tags: tags, DefaultStatus: 204},
		func(ctx context.Context, in *GroupPath) (*none, error) {
			return nil, a.Accounts.RemoveGroup(ctx, in.Server, in.Group)
		})
	route(a, model.Administrator, huma.Operation{OperationID: "add-member", Method: "POST", Path: "/servers/{server}/groups/{group}/members", Summary: "Make an account a member of a group of a server itself", Tags: tags, DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			GroupPath
			Sent[model.NewMember]
		}) (*none, error) {
			return nil, a.Accounts.SetMember(ctx, in.Server, in.Group, in.Body.Account, true)
		})
	route(a, model.Administrator, huma.Operation{OperationID: "remove-member", Method: "DELETE", Path: "/servers/{server}/groups/{group}/members/{account}", Summary: "End a membership", Tags: tags, DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			GroupPath
			Account string `path:"account" doc:"Name or SID of the member"`
		}) (*none, error) {
			return nil, a.Accounts.SetMember(ctx, in.Server, in.Group, in.Account, false)
		})
}
