package client

import (
	"context"
	"fmt"

	"bridgespan/model"
)

// Movers lists movers with the versions of their programs.
func (c *Client) Movers(ctx context.Context) ([]model.Mover, error) {
	return all[model.Mover](ctx, c, "movers")
}

// UpdateMovers begins to update movers, one after the other.
func (c *Client) UpdateMovers(ctx context.Context, asked model.UpdateMovers) (model.MoverUpdates, error) {
	return add[model.MoverUpdates](ctx, c, asked, "mover-updates")
}

// MoverUpdates shows a run that updates movers.
func (c *Client) MoverUpdates(ctx context.Context, run int64) (model.MoverUpdates, error) {
	return read[model.MoverUpdates](ctx, c, nil, "mover-updates", fmt.Sprint(run))
}

// ScheduleMoverUpdates saves updates of movers that are made again and again.
func (c *Client) ScheduleMoverUpdates(ctx context.Context, asked model.ScheduleMoverUpdates) (model.Job, error) {
	return add[model.Job](ctx, c, asked, "mover-update-jobs")
}
