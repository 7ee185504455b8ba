package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"bridgespan/model"
)

// ReplicaSets lists replica sets.
func (c *Client) ReplicaSets(ctx context.Context) ([]model.ReplicaSet, error) {
	return all[model.ReplicaSet](ctx, c, "replica-sets")
}

// ReplicaSet shows a replica set.
func (c *Client) ReplicaSet(ctx context.Context, name string) (model.ReplicaSet, error) {
	return read[model.ReplicaSet](ctx, c, nil, "replica-sets", name)
}

// BeginReplicaSet begins to make a replica set.
func (c *Client) BeginReplicaSet(ctx context.Context, n model.NewReplicaSet) (model.ReplicaCreation, error) {
	return add[model.ReplicaCreation](ctx, c, n, "replica-sets")
}

// ReplicaCreation shows how far the making of a replica set is.
func (c *Client) ReplicaCreation(ctx context.Context, run int64) (model.ReplicaCreation, error) {
	return read[model.ReplicaCreation](ctx, c, nil, "replica-creations", fmt.Sprint(run))
}

// creationEvery is how often the making of a set is asked after.
const creationEvery = 100 * time.Millisecond

// CreateReplicaSet makes a replica set, and waits until it is made or is taken
// back. each, unless it is nil, is told after every step how far it is.
func (c *Client) CreateReplicaSet(ctx context.Context, n model.NewReplicaSet, each func(model.ReplicaCreation)) (model.ReplicaSet, error) {
	made, err := c.BeginReplicaSet(ctx, n)
	if err != nil {
		return model.ReplicaSet{}, err
	}
	return c.AwaitReplicaSet(ctx, made, each)
}

// AwaitReplicaSet waits until a set is made, as [Client.CreateReplicaSet] does.
func (c *Client) AwaitReplicaSet(ctx context.Context, made model.ReplicaCreation, each func(model.ReplicaCreation)) (set model.ReplicaSet, err error) {
	for err == nil {
		if each != nil {
			each(made)
		}
		if made.Run.State.Ended() {
			break
		}
		select {
		case <-ctx.Done():
			return set, ctx.Err()
		case <-time.After(creationEvery):
		}
		made, err = c.ReplicaCreation(ctx, made.Run.ID)
	}
	if err == nil && made.Run.State != model.RunDone {
		err = fmt.Errorf("%s was not made, and what was begun is taken back: %s", made.Set, made.Run.Trouble)
	}
	if err != nil {
		return set, err
	}
	return c.ReplicaSet(ctx, made.Set)
}

// ReplicaAccounts tells what the accounts of a set's permissions are at each replica.
func (c *Client) ReplicaAccounts(ctx context.Context, name string) ([]model.ReplicaAccounts, error) {
	return all[model.ReplicaAccounts](ctx, c, "replica-sets", name, "accounts")
}

// RenewReplicaAccounts pairs the accounts of a set anew.
func (c *Client) RenewReplicaAccounts(ctx context.Context, name string) (model.ReplicaSet, error) {
	return c.members(ctx, "POST", name, nil, "accounts")
}

// PlanReplicaSet begins to find out what will come of a replica set.
func (c *Client) PlanReplicaSet(ctx context.Context, n model.NewReplicaSet) (model.ReplicaPlan, error) {
	return add[model.ReplicaPlan](ctx, c, n, "replica-plans")
}

// ReplicaPlan shows a plan as far as it is.
func (c *Client) ReplicaPlan(ctx context.Context, run int64) (model.ReplicaPlan, error) {
	return read[model.ReplicaPlan](ctx, c, nil, "replica-plans", fmt.Sprint(run))
}

// EditReplicaSet changes a replica set.
func (c *Client) EditReplicaSet(ctx context.Context, name string, e model.EditReplicaSet) (model.ReplicaSet, error) {
	return change[model.ReplicaSet](ctx, c, e, "replica-sets", name)
}

// RemoveReplicaSet ends a replica set.
func (c *Client) RemoveReplicaSet(ctx context.Context, name string) error {
	return remove(ctx, c, nil, "replica-sets", name)
}

// EditLane changes a lane of a replica set.
func (c *Client) EditLane(ctx context.Context, set, from, to string, e model.EditLane) (model.ReplicaSet, error) {
	_, etag, err := get[any](ctx, c, nil, "replica-sets", set)
	if err != nil {
		return model.ReplicaSet{}, err
	}
	out, _, err := do[model.ReplicaSet](ctx, c, request{method: http.MethodPatch, path: []string{"replica-sets", set, "lanes", from, to}, body: e, etag: etag})
	return out, err
}

// LookAtReplicas makes replicas be looked at now: all, or one unless of is "".
func (c *Client) LookAtReplicas(ctx context.Context, set, of string) error {
	_, err := send[any](ctx, c, http.MethodPost, given("replica", of), nil, "replica-sets", set, "look")
	return err
}

// ReplicaTroubles lists what could not be carried.
func (c *Client) ReplicaTroubles(ctx context.Context, set string) ([]model.ReplicaTrouble, error) {
	page, err := read[model.Page[model.ReplicaTrouble]](ctx, c, nil, "replica-sets", set, "troubles")
	return page.Items, err
}

// Backlog lists what waits in the backlog of a lane, at most so much.
func (c *Client) Backlog(ctx context.Context, set, from, to string, limit int) ([]model.WaitingPath, error) {
	page, err := read[model.Page[model.WaitingPath]](ctx, c, given("limit", fmt.Sprint(limit)), "replica-sets", set, "lanes", from, to, "backlog")
	return page.Items, err
}

// LaneHistory tells how the lanes of a set did in the last hours.
func (c *Client) LaneHistory(ctx context.Context, set string, hours int) ([]model.LaneSample, error) {
	h, err := read[model.LaneHistory](ctx, c, given("hours", fmt.Sprint(hours)), "replica-sets", set, "history")
	return h.Samples, err
}

// VerifyReplicaSet begins to find out whether the replicas of a set hold the same.
func (c *Client) VerifyReplicaSet(ctx context.Context, set string, asked model.VerifySet) (model.ReplicaVerification, error) {
	return add[model.ReplicaVerification](ctx, c, asked, "replica-sets", set, "verify")
}

// ReplicaVerifications lists the verifications of a set, newest first.
func (c *Client) ReplicaVerifications(ctx context.Context, set string) ([]model.ReplicaVerification, error) {
	p, err := read[model.Page[model.ReplicaVerification]](ctx, c, nil, "replica-sets", set, "verifications")
	return p.Items, err
}

// VerifyFindings lists what a verification found, as far as asked; cursor is where
// to go on.
func (c *Client) VerifyFindings(ctx context.Context, run int64, replica, kind, part, cursor string, limit int) (model.Page[model.VerifyFinding], error) {
	return read[model.Page[model.VerifyFinding]](ctx, c, given("replica", replica, "kind", kind, "filter", part, "cursor", cursor, "limit", fmt.Sprint(limit)), "replica-verifications", fmt.Sprint(run), "findings")
}

// VerifyManifest writes the checksums of a full verification, for sha256sum.
func (c *Client) VerifyManifest(ctx context.Context, run int64, w io.Writer) error {
	return c.text(ctx, w, "replica-verifications", fmt.Sprint(run), "manifest")
}

// VerifyReport writes a verification as a page that needs nothing else.
func (c *Client) VerifyReport(ctx context.Context, run int64, w io.Writer) error {
	return c.text(ctx, w, "replica-verifications", fmt.Sprint(run), "report")
}

// ScheduleVerification saves a verification that is done again and again.
func (c *Client) ScheduleVerification(ctx context.Context, set string, asked model.ScheduleVerification) (model.Job, error) {
	return add[model.Job](ctx, c, asked, "replica-sets", set, "verifications", "jobs")
}

// ReplicaVerification shows a verification as far as it is.
func (c *Client) ReplicaVerification(ctx context.Context, run int64) (model.ReplicaVerification, error) {
	return read[model.ReplicaVerification](ctx, c, nil, "replica-verifications", fmt.Sprint(run))
}

// Attic lists the newest items of the attics of a set.
func (c *Client) Attic(ctx context.Context, set string, f model.AtticFilter, limit int) ([]model.AtticItem, error) {
	page, err := read[model.Page[model.AtticItem]](ctx, c, given("replica", f.Replica, "why", f.Why, "path", f.Path, "limit", fmt.Sprint(limit)), "replica-sets", set, "attic")
	return page.Items, err
}

// RestoreFromAttic puts something back, where it was when as is "".
func (c *Client) RestoreFromAttic(ctx context.Context, set string, item int64, as string) (model.AtticItem, error) {
	return send[model.AtticItem](ctx, c, http.MethodPost, given("as", as), nil, "replica-sets", set, "attic", fmt.Sprint(item), "restore")
}

// PurgeFromAttic removes something from an attic, for good.
func (c *Client) PurgeFromAttic(ctx context.Context, set string, item int64) error {
	_, err := send[any](ctx, c, http.MethodDelete, nil, nil, "replica-sets", set, "attic", fmt.Sprint(item))
	return err
}

// AddReplica adds a place to a set.
func (c *Client) AddReplica(ctx context.Context, set string, n model.NewReplica) (model.ReplicaSet, error) {
	return c.members(ctx, "POST", set, n, "replicas")
}

// EditReplica changes a place of a set.
func (c *Client) EditReplica(ctx context.Context, set, replica string, e model.EditReplica) (model.ReplicaSet, error) {
	return c.members(ctx, "PATCH", set, e, "replicas", replica)
}

// PreviewSettings tells what follows from other settings of a set.
func (c *Client) PreviewSettings(ctx context.Context, set string, change model.SettingsChange) (model.SettingsPreview, error) {
	return add[model.SettingsPreview](asking(ctx), c, change, "replica-sets", set, "preview")
}

// DropReplica takes a place out of a set.
func (c *Client) DropReplica(ctx context.Context, set, replica string) (model.ReplicaSet, error) {
	return c.members(ctx, "DELETE", set, nil, "replicas", replica)
}

// members changes what belongs to a set, under the set's ETag.
func (c *Client) members(ctx context.Context, method, set string, body any, below ...string) (model.ReplicaSet, error) {
	_, etag, err := get[model.ReplicaSet](ctx, c, nil, "replica-sets", set)
	if err != nil {
		return model.ReplicaSet{}, err
	}
	out, _, err := do[model.ReplicaSet](ctx, c, request{method: method, path: append([]string{"replica-sets", set}, below...), body: body, etag: etag})
	return out, err
}

// DropProbe drops a marker file at one replica, to be timed at the others.
func (c *Client) DropProbe(ctx context.Context, set string, asked model.DropProbe) (model.ReplicaProbe, error) {
	return add[model.ReplicaProbe](ctx, c, asked, "replica-sets", set, "probes")
}

// ReplicaProbe shows a probe as far as it has arrived.
func (c *Client) ReplicaProbe(ctx context.Context, run int64) (model.ReplicaProbe, error) {
	return read[model.ReplicaProbe](ctx, c, nil, "replica-probes", fmt.Sprint(run))
}

// Probes lists the latest probes of a set, newest first.
func (c *Client) Probes(ctx context.Context, set string) ([]model.ReplicaProbe, error) {
	p, err := read[model.Page[model.ReplicaProbe]](ctx, c, nil, "replica-sets", set, "probes")
	return p.Items, err
}

// ScheduleProbe saves a probe that is dropped again and again.
func (c *Client) ScheduleProbe(ctx context.Context, set string, asked model.ScheduleProbe) (model.Job, error) {
	return add[model.Job](ctx, c, asked, "replica-sets", set, "probes", "jobs")
}

// CompareAttic shows what an attic keeps beside what is at its path now.
func (c *Client) CompareAttic(ctx context.Context, set string, item int64) (model.AtticComparison, error) {
	return read[model.AtticComparison](ctx, c, nil, "replica-sets", set, "attic", fmt.Sprint(item), "comparison")
}

// CloudUsage reports the storage of a bucket, the reads of its edges, and their costs.
func (c *Client) CloudUsage(ctx context.Context, set string) (model.CloudUsage, error) {
	return read[model.CloudUsage](ctx, c, nil, "replica-sets", set, "usage")
}

// WhereContent tells where the content of a path of a cloud set is now.
func (c *Client) WhereContent(ctx context.Context, set, path string) (model.Whereabouts, error) {
	return read[model.Whereabouts](ctx, c, url.Values{"path": {path}}, "replica-sets", set, "where")
}

// Arrival forecasts when a path of a cloud set, or a change at a replica, arrives at the others.
func (c *Client) Arrival(ctx context.Context, set string, asked model.AskArrival) (model.ArrivalForecast, error) {
	query := given("path", asked.Path, "madeAt", asked.MadeAt, "size", fmt.Sprint(asked.Size))
	if !asked.At.IsZero() {
		query.Set("at", asked.At.Format(time.RFC3339))
	}
	return read[model.ArrivalForecast](ctx, c, query, "replica-sets", set, "arrival")
}

// FindAccountUses starts a run that lists the accounts in the permissions of a set.
func (c *Client) FindAccountUses(ctx context.Context, set string) (model.AccountUses, error) {
	return add[model.AccountUses](ctx, c, struct{}{}, "replica-sets", set, "account-uses")
}

// AccountUses shows such a run.
func (c *Client) AccountUses(ctx context.Context, run int64) (model.AccountUses, error) {
	return read[model.AccountUses](ctx, c, nil, "replica-account-uses", fmt.Sprint(run))
}

// LatestAccountUses lists the latest such runs of a set, newest first.
func (c *Client) LatestAccountUses(ctx context.Context, set string) ([]model.AccountUses, error) {
	p, err := read[model.Page[model.AccountUses]](ctx, c, nil, "replica-sets", set, "account-uses")
	return p.Items, err
}

// MoveContents fetches contents to an edge of a cloud set, or makes stubs there.
func (c *Client) MoveContents(ctx context.Context, set string, asked model.MoveContents) (model.ContentsMove, error) {
	return add[model.ContentsMove](ctx, c, asked, "replica-sets", set, "contents")
}

// ContentsMove shows a run that moves contents.
func (c *Client) ContentsMove(ctx context.Context, run int64) (model.ContentsMove, error) {
	return read[model.ContentsMove](ctx, c, nil, "replica-contents", fmt.Sprint(run))
}
