package client

import (
	"context"

	"bridgespan/model"
)

// CloudSetups lists cloud sets that are being set up.
func (c *Client) CloudSetups(ctx context.Context) ([]model.CloudSetup, error) {
	return all[model.CloudSetup](ctx, c, "cloud-setups")
}

// CloudSetup shows the set-up of a cloud set.
func (c *Client) CloudSetup(ctx context.Context, name string) (model.CloudSetup, error) {
	return read[model.CloudSetup](ctx, c, nil, "cloud-setups", name)
}

// AddCloudSetup begins the set-up of a cloud set.
func (c *Client) AddCloudSetup(ctx context.Context, n model.NewCloudSetup) (model.CloudSetup, error) {
	return add[model.CloudSetup](ctx, c, n, "cloud-setups")
}

// EditCloudSetup changes what was entered for a set-up.
func (c *Client) EditCloudSetup(ctx context.Context, name string, e model.EditCloudSetup) (model.CloudSetup, error) {
	return change[model.CloudSetup](ctx, c, e, "cloud-setups", name)
}

// RemoveCloudSetup discards a set-up.
func (c *Client) RemoveCloudSetup(ctx context.Context, name string) error {
	return remove(ctx, c, nil, "cloud-setups", name)
}

// CheckCloudSetup checks the steps of a set-up.
func (c *Client) CheckCloudSetup(ctx context.Context, name string) (model.CloudSetup, error) {
	return add[model.CloudSetup](ctx, c, nil, "cloud-setups", name, "check")
}

// PlanCloudSetup begins to plan the cloud set of a set-up.
func (c *Client) PlanCloudSetup(ctx context.Context, name string) (model.ReplicaPlan, error) {
	return add[model.ReplicaPlan](ctx, c, nil, "cloud-setups", name, "plan")
}

// StartCloudSetup begins to create the cloud set of a set-up.
func (c *Client) StartCloudSetup(ctx context.Context, name string) (model.ReplicaCreation, error) {
	return add[model.ReplicaCreation](ctx, c, nil, "cloud-setups", name, "start")
}
