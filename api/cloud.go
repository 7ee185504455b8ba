package api

import (
	"context"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/model"
	"bridgespan/tree/bucket/seal"
)

func (a *API) cloudRoutes() {
	tags := []string{"Cloud sets"}
	route(a, model.Viewer, huma.Operation{OperationID: "where-content", Method: "GET", Path: setRoute + "/where", Summary: "Tell where the content of a path of a cloud set is now", Tags: tags},
		func(ctx context.Context, in *struct {
			SetPath
			Path string `query:"path" maxLength:"4096" doc:"Path within the set; its top when absent"`
		}) (*body[model.Whereabouts], error) {
			w, err := a.Replicas.Where(ctx, in.Set, in.Path)
			return &body[model.Whereabouts]{w}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "forecast-arrival", Method: "GET", Path: setRoute + "/arrival", Summary: "Forecast when a path of a cloud set, or a change at a replica, arrives at the others", Tags: tags},
		func(ctx context.Context, in *struct {
			SetPath
			model.AskArrival
		}) (*body[model.ArrivalForecast], error) {
			f, err := a.Replicas.Arrival(ctx, in.Set, in.AskArrival)
			return &body[model.ArrivalForecast]{f}, err
		})
	route(a, model.Operator, huma.Operation{OperationID: "find-account-uses", Method: "POST", Path: setRoute + "/account-uses", Summary: "List the accounts in the permissions of a set, and how each server resolves them", Tags: tags, DefaultStatus: 202},
		func(ctx context.Context, in *SetPath) (*body[model.AccountUses], error) {
			u, err := a.Replicas.FindAccounts(ctx, in.Set)
			return &body[model.AccountUses]{u}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "list-account-uses", Method: "GET", Path: setRoute + "/account-uses", Summary: "List the latest runs that listed the accounts of a set, newest first", Tags: tags},
		func(ctx context.Context, in *struct {
			SetPath
			Limit int `query:"limit" minimum:"1" maximum:"20" default:"1" doc:"How many at most"`
		}) (*body[model.Page[model.AccountUses]], error) {
			list, err := a.Replicas.LatestAccountUses(ctx, in.Set, in.Limit)
			return &body[model.Page[model.AccountUses]]{model.Page[model.AccountUses]{Items: list}}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-account-uses", Method: "GET", Path: "/replica-account-uses/{run}", Summary: "Show a run that lists the accounts of a set", Tags: tags},
		func(ctx context.Context, in *RunPath) (*body[model.AccountUses], error) {
			u, err := a.Replicas.AccountUses(ctx, in.Run)
			return &body[model.AccountUses]{u}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-cloud-usage", Method: "GET", Path: setRoute + "/usage", Summary: "Report the storage of a bucket, the reads of its edges, and their costs", Tags: tags},
		func(ctx context.Context, in *SetPath) (*body[model.CloudUsage], error) {
			u, err := a.Replicas.Usage(ctx, in.Set)
			return &body[model.CloudUsage]{u}, err
		})
	route(a, model.Operator, huma.Operation{OperationID: "move-contents", Method: "POST", Path: setRoute + "/contents", Summary: "Fetch contents to an edge of a cloud set, or make stubs there", Tags: tags, DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SetPath
			Sent[model.MoveContents]
		}) (*body[model.ContentsMove], error) {
			m, err := a.Replicas.Move(ctx, in.Set, in.Body)
			return &body[model.ContentsMove]{m}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-contents-move", Method: "GET", Path: "/replica-contents/{run}", Summary: "Show a run that fetches contents or makes stubs", Tags: tags},
		func(ctx context.Context, in *RunPath) (*body[model.ContentsMove], error) {
			m, err := a.Replicas.ShowMove(ctx, in.Run)
			return &body[model.ContentsMove]{m}, err
		})
	change(a, model.Administrator, huma.Operation{OperationID: "make-event-token", Method: "POST", Path: "/servers/{server}/event-token", Summary: "Make the token for event notifications of a cloud account", Tags: tags, DefaultStatus: 201,
		Description: "A token that was made before becomes invalid."},
		func(ctx context.Context, in *ServerPath) (*body[model.EventToken], error) {
			t, err := a.Replicas.NewEventToken(ctx, in.Server)
			return &body[model.EventToken]{t}, err
		})
	route(a, "", huma.Operation{OperationID: "tell-bucket-events", Method: "POST", Path: strings.TrimPrefix(model.EventPath, Prefix), Summary: "Receive an event notification of an S3 object service", Tags: tags, DefaultStatus: 204, SkipValidateBody: true,
		Description: "The body has the event message structure of the S3 API reference. The folders of the objects are scanned at once. The token for event notifications of the account is needed as a bearer token."},
		func(ctx context.Context, in *struct {
			Authorization string `header:"Authorization" doc:"Bearer, and the token"`
			RawBody       []byte `contentType:"application/json"`
		}) (*none, error) {
			token, _ := strings.CutPrefix(in.Authorization, "Bearer ")
			return nil, a.Replicas.BucketEvents(ctx, token, in.RawBody)
		})
	a.sealedRoutes(tags)
}

// SealedPath names a sealed folder.
type SealedPath struct {
	Recipient string `path:"recipient" doc:"Public key of age that its files are encrypted to"`
}

// sealedRoutes are about folders of buckets whose files are sealed.
func (a *API) sealedRoutes(tags []string) {
	const one = "/sealed-folders/{recipient}"
	route(a, model.Viewer, huma.Operation{OperationID: "list-sealed-folders", Method: "GET", Path: "/sealed-folders", Summary: "List sealed folders: folders of buckets whose files are encrypted before they are sent", Tags: tags},
		func(ctx context.Context, _ *struct{}) (*body[model.Page[model.SealedFolder]], error) {
			list, err := a.Estate.SealedFolders(ctx)
			return &body[model.Page[model.SealedFolder]]{model.Page[model.SealedFolder]{Items: list}}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-sealed-folder", Method: "GET", Path: one, Summary: "Show a sealed folder", Tags: tags},
		func(ctx context.Context, in *SealedPath) (*tagged[model.SealedFolder], error) {
			f, err := a.Estate.SealedFolder(ctx, in.Recipient)
			return &tagged[model.SealedFolder]{etag(f.Version), f}, err
		})
	change(a, model.Administrator, huma.Operation{OperationID: "import-folder-key", Method: "POST", Path: "/sealed-folders", Summary: "Import the key of a folder that was sealed before, as with another installation of Bridge Span", Tags: tags, DefaultStatus: 201},
		func(ctx context.Context, in *body[model.KeyImport]) (*tagged[model.SealedFolder], error) {
			f, err := a.Estate.ImportKey(ctx, in.Body)
			return &tagged[model.SealedFolder]{etag(f.Version), f}, err
		})
	change(a, model.Administrator, huma.Operation{OperationID: "edit-sealed-folder", Method: "PATCH", Path: one, Summary: "Set the recovery keys of a sealed folder; its files stay as they are", Tags: tags},
		func(ctx context.Context, in *struct {
			SealedPath
			Guard
			Sent[model.EditSealedFolder]
		}) (*tagged[model.SealedFolder], error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			if err := a.Estate.SetRecoveryKeys(ctx, in.Recipient, version, in.Body.RecoveryKeys); err != nil {
				return nil, err
			}
			f, err := a.Estate.SealedFolder(ctx, in.Recipient)
			return &tagged[model.SealedFolder]{etag(f.Version), f}, err
		})
	change(a, model.Administrator, huma.Operation{OperationID: "remove-folder-key", Method: "DELETE", Path: one, Summary: "Remove the key of a sealed folder without a cloud set; its files can then be opened with a recovery key alone", Tags: tags, DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			SealedPath
			Guard
		}) (*none, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			return nil, a.Estate.RemoveKey(ctx, in.Recipient, version)
		})
	route(a, model.Administrator, huma.Operation{OperationID: "make-recovery-key", Method: "POST", Path: "/recovery-keys", Summary: "Make a pair of keys for recovery", Tags: tags, DefaultStatus: 201,
		Description: "The service keeps neither of them. The private key is shown once."},
		func(ctx context.Context, _ *struct{}) (*body[model.RecoveryKey], error) {
			public, private, err := seal.NewRecoveryKey()
			return &body[model.RecoveryKey]{model.RecoveryKey{Public: public, Private: private}}, err
		})
}
