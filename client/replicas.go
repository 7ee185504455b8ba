package client

import (
	"context"
	"fmt"
	"net/http"

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

// CreateReplicaSet makes a replica set.
func (c *Client) CreateReplicaSet(ctx context.Context, n model.NewReplicaSet) (model.ReplicaSet, error) {
	return add[model.ReplicaSet](ctx, c, n, "replica-sets")
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

// LaneHistory tells how the lanes of a set did in the last hours.
func (c *Client) LaneHistory(ctx context.Context, set string, hours int) ([]model.LaneSample, error) {
	h, err := read[model.LaneHistory](ctx, c, given("hours", fmt.Sprint(hours)), "replica-sets", set, "history")
	return h.Samples, err
}

// VerifyReplicaSet begins to find out whether the replicas of a set hold the same.
func (c *Client) VerifyReplicaSet(ctx context.Context, set, level string) (model.ReplicaVerification, error) {
	return add[model.ReplicaVerification](ctx, c, model.VerifySet{Level: level}, "replica-sets", set, "verify")
}

// ReplicaVerification shows a verification as far as it is.
func (c *Client) ReplicaVerification(ctx context.Context, run int64) (model.ReplicaVerification, error) {
	return read[model.ReplicaVerification](ctx, c, nil, "replica-verifications", fmt.Sprint(run))
}

// Attic lists the newest that attics keep: of one replica, and for one reason,
// unless these are "".
func (c *Client) Attic(ctx context.Context, set, of, why string, limit int) ([]model.AtticItem, error) {
	page, err := read[model.Page[model.AtticItem]](ctx, c, given("replica", of, "why", why, "limit", fmt.Sprint(limit)), "replica-sets", set, "attic")
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
