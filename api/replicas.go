package api

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"bridgespan/model"
	"bridgespan/service/replicas/sets"
)

// SetPath names a replica set.
type SetPath struct {
	Set string `path:"set" doc:"Name of the replica set"`
}

// LanePath names a lane of a replica set.
type LanePath struct {
	SetPath
	From string `path:"from" doc:"Name of the replica that sends"`
	To   string `path:"to" doc:"Name of the replica that receives"`
}

// AtticPath names something that an attic keeps.
type AtticPath struct {
	SetPath
	Item int64 `path:"item" minimum:"1" maximum:"9007199254740991" doc:"Number of what the attic keeps"`
}

const setRoute = "/replica-sets/{set}"

func (a *API) replicaRoutes() {
	tags := []string{"Replica sets"}
	route(a, model.Viewer, huma.Operation{OperationID: "list-replica-sets", Method: "GET", Path: "/replica-sets", Summary: "List replica sets", Tags: tags},
		func(ctx context.Context, in *PageIn) (*body[model.Page[model.ReplicaSet]], error) {
			return paged(in, a.Replicas.Sets, func(s model.ReplicaSet) string { return s.Name })(ctx)
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-replica-set", Method: "GET", Path: setRoute, Summary: "Show a replica set: how its replicas and lanes are", Tags: tags},
		func(ctx context.Context, in *SetPath) (*tagged[model.ReplicaSet], error) {
			return a.replicaSet(ctx, in.Set)
		})
	change(a, model.Administrator, huma.Operation{OperationID: "create-replica-set", Method: "POST", Path: "/replica-sets", Summary: "Make a replica set, step by step; when a step fails, those before it are taken back", Tags: tags, DefaultStatus: 202},
		func(ctx context.Context, in *body[model.NewReplicaSet]) (*body[model.ReplicaCreation], error) {
			c, err := a.Replicas.Create(ctx, in.Body)
			return &body[model.ReplicaCreation]{c}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-replica-creation", Method: "GET", Path: "/replica-creations/{run}", Summary: "Show how far the making of a replica set is", Tags: tags},
		func(ctx context.Context, in *RunPath) (*body[model.ReplicaCreation], error) {
			c, err := a.Replicas.Created(ctx, in.Run)
			return &body[model.ReplicaCreation]{c}, err
		})
	change(a, model.Administrator, huma.Operation{OperationID: "edit-replica-set", Method: "PATCH", Path: setRoute, Summary: "Change the settings of a replica set, pause it, or let it go on", Tags: tags},
		func(ctx context.Context, in *struct {
			SetPath
			Guard
			Sent[model.EditReplicaSet]
		}) (*tagged[model.ReplicaSet], error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			if err := a.Replicas.Edit(ctx, in.Set, version, in.Body); err != nil {
				return nil, err
			}
			return a.replicaSet(ctx, in.Set)
		})
	route(a, model.Viewer, huma.Operation{OperationID: "preview-replica-settings", Method: "POST", Path: setRoute + "/preview", Summary: "Tell what follows from other settings of a set, and check them; nothing is changed", Tags: tags},
		func(ctx context.Context, in *struct {
			SetPath
			Sent[model.SettingsChange]
		}) (*body[model.SettingsPreview], error) {
			p, err := a.Replicas.Preview(ctx, in.Set, in.Body)
			return &body[model.SettingsPreview]{p}, err
		})
	change(a, model.Administrator, huma.Operation{OperationID: "remove-replica-set", Method: "DELETE", Path: setRoute, Summary: "End a replica set; all files stay where they are", Tags: tags, DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			SetPath
			Guard
		}) (*none, error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			return nil, a.Replicas.Remove(ctx, in.Set, version)
		})
	change(a, model.Administrator, huma.Operation{OperationID: "edit-lane", Method: "PATCH", Path: setRoute + "/lanes/{from}/{to}", Summary: "Open or close a lane, or give it a calendar of its own", Tags: tags, Description: "If-Match is the ETag of the set."},
		func(ctx context.Context, in *struct {
			LanePath
			Guard
			Sent[model.EditLane]
		}) (*tagged[model.ReplicaSet], error) {
			version, err := in.version()
			if err != nil {
				return nil, err
			}
			if err := a.Replicas.EditLane(ctx, in.Set, in.From, in.To, version, in.Body); err != nil {
				return nil, err
			}
			return a.replicaSet(ctx, in.Set)
		})
	a.memberRoutes(tags)
	a.replicaAccountRoutes(tags)
	route(a, model.Administrator, huma.Operation{OperationID: "plan-replica-set", Method: "POST", Path: "/replica-plans", Summary: "Find out what will come of a replica set, before anything is changed", Tags: tags, DefaultStatus: 202},
		func(ctx context.Context, in *body[model.NewReplicaSet]) (*body[model.ReplicaPlan], error) {
			p, err := a.Replicas.Plan(ctx, in.Body)
			return &body[model.ReplicaPlan]{p}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-replica-plan", Method: "GET", Path: "/replica-plans/{run}", Summary: "Show a plan as far as it is", Tags: tags},
		func(ctx context.Context, in *RunPath) (*body[model.ReplicaPlan], error) {
			p, err := a.Replicas.Planned(ctx, in.Run)
			return &body[model.ReplicaPlan]{p}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "read-calendar", Method: "POST", Path: "/calendars", Summary: "Read a calendar in one of its two forms, and tell it in both", Tags: tags},
		func(_ context.Context, in *body[model.Calendar]) (*body[model.Calendar], error) {
			c, err := sets.ReadCalendar(in.Body)
			return &body[model.Calendar]{c}, err
		})
	a.replicaWorkRoutes(tags)
	a.atticRoutes(tags)
}

// MemberPath names a replica of a set.
type MemberPath struct {
	SetPath
	Replica string `path:"replica" doc:"Name of the replica"`
}

// memberRoutes are about which places a set has.
func (a *API) memberRoutes(tags []string) {
	const members = setRoute + "/replicas"
	const tagOfSet = "If-Match is the ETag of the set."
	change(a, model.Administrator, huma.Operation{OperationID: "add-replica", Method: "POST", Path: members, Summary: "Add a place to a set; the others stay as they are", Tags: tags, Description: tagOfSet},
		func(ctx context.Context, in *struct {
			SetPath
			Guard
			Sent[model.NewReplica]
		}) (*tagged[model.ReplicaSet], error) {
			return a.changeMembers(ctx, in.Set, in.Guard, func(version int64) error { return a.Replicas.AddReplica(ctx, in.Set, version, in.Body) })
		})
	change(a, model.Administrator, huma.Operation{OperationID: "edit-replica", Method: "PATCH", Path: members + "/{replica}", Summary: "Change the quotas of a replica, where it is, or that it is the seed", Tags: tags, Description: tagOfSet},
		func(ctx context.Context, in *struct {
			MemberPath
			Guard
			Sent[model.EditReplica]
		}) (*tagged[model.ReplicaSet], error) {
			return a.changeMembers(ctx, in.Set, in.Guard, func(version int64) error {
				return a.Replicas.EditReplica(ctx, in.Set, version, in.Replica, in.Body)
			})
		})
	change(a, model.Administrator, huma.Operation{OperationID: "drop-replica", Method: "DELETE", Path: members + "/{replica}", Summary: "Take a place out of a set; its files stay where they are", Tags: tags, Description: tagOfSet},
		func(ctx context.Context, in *struct {
			MemberPath
			Guard
		}) (*tagged[model.ReplicaSet], error) {
			return a.changeMembers(ctx, in.Set, in.Guard, func(version int64) error { return a.Replicas.RemoveReplica(ctx, in.Set, version, in.Replica) })
		})
}

// replicaAccountRoutes are about whose permissions are carried as whose.
func (a *API) replicaAccountRoutes(tags []string) {
	route(a, model.Viewer, huma.Operation{OperationID: "get-replica-accounts", Method: "GET", Path: setRoute + "/accounts", Summary: "Tell what the accounts of a set's permissions are at each replica", Tags: tags},
		func(ctx context.Context, in *SetPath) (*body[model.Page[model.ReplicaAccounts]], error) {
			list, err := a.Replicas.Accounts(ctx, in.Set)
			return &body[model.Page[model.ReplicaAccounts]]{model.Page[model.ReplicaAccounts]{Items: list}}, err
		})
	change(a, model.Administrator, huma.Operation{OperationID: "renew-replica-accounts", Method: "POST", Path: setRoute + "/accounts", Summary: "Pair the accounts of a set anew, after its map or accounts have changed", Tags: tags, DefaultStatus: 200,
		Description: "If-Match is the ETag of the set. Replicas at which that makes a difference are looked at anew, and given the permissions of the set."},
		func(ctx context.Context, in *struct {
			SetPath
			Guard
		}) (*tagged[model.ReplicaSet], error) {
			return a.changeMembers(ctx, in.Set, in.Guard, func(version int64) error { return a.Replicas.RenewAccounts(ctx, in.Set, version) })
		})
}

func (a *API) changeMembers(ctx context.Context, set string, guard Guard, do func(version int64) error) (*tagged[model.ReplicaSet], error) {
	version, err := guard.version()
	if err != nil {
		return nil, err
	}
	if err := do(version); err != nil {
		return nil, err
	}
	return a.replicaSet(ctx, set)
}

func (a *API) replicaSet(ctx context.Context, name string) (*tagged[model.ReplicaSet], error) {
	set, err := a.Replicas.Set(ctx, name)
	return &tagged[model.ReplicaSet]{etag(set.Version), set}, err
}

// replicaWorkRoutes are about how the work on sets goes.
func (a *API) replicaWorkRoutes(tags []string) {
	route(a, model.Operator, huma.Operation{OperationID: "look-at-replicas", Method: "POST", Path: setRoute + "/look", Summary: "Look at all of a set's replicas now, or at one", Tags: tags, DefaultStatus: 204},
		func(ctx context.Context, in *struct {
			SetPath
			Replica string `query:"replica" doc:"At this replica alone"`
		}) (*none, error) {
			return nil, a.Replicas.Look(ctx, in.Set, in.Replica)
		})
	route(a, model.Operator, huma.Operation{OperationID: "verify-replica-set", Method: "POST", Path: setRoute + "/verify", Summary: "Find out whether the replicas of a set hold the same", Tags: tags, DefaultStatus: 202},
		func(ctx context.Context, in *struct {
			SetPath
			Sent[model.VerifySet]
		}) (*body[model.ReplicaVerification], error) {
			v, err := a.Replicas.Verify(ctx, in.Set, in.Body)
			return &body[model.ReplicaVerification]{v}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-replica-verification", Method: "GET", Path: "/replica-verifications/{run}", Summary: "Show a verification as far as it is", Tags: tags},
		func(ctx context.Context, in *RunPath) (*body[model.ReplicaVerification], error) {
			v, err := a.Replicas.Verified(ctx, in.Run)
			return &body[model.ReplicaVerification]{v}, err
		})
	a.verificationRoutes(tags)
	a.probeRoutes(tags)
	route(a, model.Viewer, huma.Operation{OperationID: "list-replica-troubles", Method: "GET", Path: setRoute + "/troubles", Summary: "List what could not be carried and is tried again, the oldest first", Tags: tags},
		func(ctx context.Context, in *SetPath) (*body[model.Page[model.ReplicaTrouble]], error) {
			list, err := a.Replicas.Troubles(ctx, in.Set)
			return &body[model.Page[model.ReplicaTrouble]]{model.Page[model.ReplicaTrouble]{Items: list}}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "list-backlog", Method: "GET", Path: setRoute + "/lanes/{from}/{to}/backlog", Summary: "List what waits in the backlog of a lane, in the order in which it is looked at", Tags: tags},
		func(ctx context.Context, in *struct {
			LanePath
			Limit int `query:"limit" minimum:"1" maximum:"1000" default:"200" doc:"At most so many"`
		}) (*body[model.Page[model.WaitingPath]], error) {
			list, err := a.Replicas.Waiting(ctx, in.Set, in.From, in.To, in.Limit)
			return &body[model.Page[model.WaitingPath]]{model.Page[model.WaitingPath]{Items: list}}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "get-lane-history", Method: "GET", Path: setRoute + "/history", Summary: "Tell how the lanes did, minute by minute", Tags: tags},
		func(ctx context.Context, in *struct {
			SetPath
			Hours int `query:"hours" minimum:"1" maximum:"744" default:"24" doc:"Of so many hours"`
		}) (*body[model.LaneHistory], error) {
			h, err := a.Replicas.History(ctx, in.Set, time.Now().UTC().Add(-time.Duration(in.Hours)*time.Hour))
			return &body[model.LaneHistory]{h}, err
		})
}

// atticRoutes are about what attics keep.
func (a *API) atticRoutes(tags []string) {
	route(a, model.Operator, huma.Operation{OperationID: "compare-attic", Method: "GET", Path: setRoute + "/attic/{item}/comparison", Summary: "Show what an attic keeps beside what is at its path now", Tags: tags,
		Description: "It shows what is in files, and so is for those who may restore them."},
		func(ctx context.Context, in *struct {
			SetPath
			Item int64 `path:"item" minimum:"1" maximum:"9007199254740991" doc:"Number of the item"`
		}) (*body[model.AtticComparison], error) {
			c, err := a.Replicas.CompareAttic(ctx, in.Set, in.Item)
			return &body[model.AtticComparison]{c}, err
		})
	route(a, model.Viewer, huma.Operation{OperationID: "list-attic", Method: "GET", Path: setRoute + "/attic", Summary: "List what the attics keep, newest first", Tags: tags},
		func(ctx context.Context, in *struct {
			SetPath
			NumberedPart
			model.AtticFilter
		}) (*body[model.Page[model.AtticItem]], error) {
			before, err := in.number()
			if err != nil {
				return nil, err
			}
			items, err := a.Replicas.Attic(ctx, in.Set, in.AtticFilter, before, in.Limit+1)
			return &body[model.Page[model.AtticItem]]{numberedPage(items, in.Limit, func(i model.AtticItem) int64 { return i.ID })}, err
		})
	change(a, model.Operator, huma.Operation{OperationID: "restore-from-attic", Method: "POST", Path: setRoute + "/attic/{item}/restore", Summary: "Put something back where it was, or under another path, with its permissions", Tags: tags},
		func(ctx context.Context, in *struct {
			AtticPath
			As string `query:"as" doc:"Path within the replica, when not where it was"`
		}) (*body[model.AtticItem], error) {
			item, err := a.Replicas.Restore(ctx, in.Set, in.Item, in.As)
			return &body[model.AtticItem]{item}, err
		})
	change(a, model.Administrator, huma.Operation{OperationID: "purge-from-attic", Method: "DELETE", Path: setRoute + "/attic/{item}", Summary: "Remove something from its attic, for good", Tags: tags, DefaultStatus: 204},
		func(ctx context.Context, in *AtticPath) (*none, error) {
			return nil, a.Replicas.Purge(ctx, in.Set, in.Item)
		})
}
