package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/core/fault"
	"bridgespan/model"
	"bridgespan/service/access"
)

// CredentialPath names a session or token.
type CredentialPath struct {
	Credential int64 `path:"credential" minimum:"1" maximum:"9007199254740991" doc:"Number of the session or token"`
}

// LockPath names a lock.
type LockPath struct {
	Lock int64 `path:"lock" minimum:"1" maximum:"9007199254740991" doc:"Number of the lock"`
}

// credentialAndLockRoutes list and end sessions, tokens, and locks at the gateway.
func (a *API) credentialAndLockRoutes() {
	route(a, model.Viewer, huma.Operation{OperationID: "list-credentials", Method: "GET", Path: "/credentials", Summary: "List sessions and tokens: your own, or as an administrator those of others", Tags: []string{"Sign-in"}}, a.credentials)
	change(a, model.Viewer, huma.Operation{OperationID: "end-credential", Method: "DELETE", Path: "/credentials/{credential}", Summary: "End a session or token at once: your own, or as an administrator anybody's", Tags: []string{"Sign-in"}, DefaultStatus: 204},
		func(ctx context.Context, in *CredentialPath) (*none, error) {
			return nil, a.Access.EndCredential(ctx, in.Credential)
		})
	route(a, model.Administrator, huma.Operation{OperationID: "list-locks", Method: "GET", Path: "/locks", Summary: "List the write locks that people hold at the gateway", Tags: []string{"Gateway"}},
		func(ctx context.Context, in *struct {
			NumberedPart
			Filter string `query:"filter" maxLength:"1024" doc:"Whose path or account contains this"`
		}) (*body[model.Page[model.GatewayLock]], error) {
			after, err := in.number()
			if err != nil {
				return nil, err
			}
			list, err := a.Locks.List(ctx, in.Filter, after, in.Limit+1)
			return &body[model.Page[model.GatewayLock]]{numberedPage(list, in.Limit, func(l model.GatewayLock) int64 { return l.ID })}, err
		})
	change(a, model.Administrator, huma.Operation{OperationID: "end-lock", Method: "DELETE", Path: "/locks/{lock}", Summary: "End a lock; its holder can be overwritten then", Tags: []string{"Gateway"}, DefaultStatus: 204},
		func(ctx context.Context, in *LockPath) (*none, error) { return nil, a.Locks.End(ctx, in.Lock) })
}

func (a *API) credentials(ctx context.Context, in *struct {
	NumberedPart
	User string `query:"user" maxLength:"255" doc:"Of this user alone; your own when absent"`
	All  bool   `query:"all" doc:"Of all users"`
}) (*body[model.Page[model.Credential]], error) {
	u, _ := access.Actor(ctx)
	of := u.Name
	switch {
	case in.All && in.User != "":
		return nil, fault.Field("user", "leave out one of user and all", "all users are asked for, and one of them")
	case in.All:
		of = ""
	case in.User != "":
		of = in.User
	}
	after, err := in.number()
	if err != nil {
		return nil, err
	}
	list, err := a.Access.Credentials(ctx, of, credentialIn(ctx).ID, after, in.Limit+1)
	return &body[model.Page[model.Credential]]{numberedPage(list, in.Limit, func(c model.Credential) int64 { return c.ID })}, err
}
