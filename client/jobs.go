package client

import (
	"context"
	"fmt"

	"bridgespan/model"
)

// Jobs lists work that is done again and again.
func (c *Client) Jobs(ctx context.Context) ([]model.Job, error) {
	p, err := read[model.Page[model.Job]](ctx, c, nil, "jobs")
	return p.Items, err
}

// EditJob changes when a job is done, or whether.
func (c *Client) EditJob(ctx context.Context, id int64, e model.EditJob) (model.Job, error) {
	return change[model.Job](ctx, c, e, "jobs", fmt.Sprint(id))
}

// RunJob does a job now.
func (c *Client) RunJob(ctx context.Context, id int64) (model.Run, error) {
	return add[model.Run](ctx, c, nil, "jobs", fmt.Sprint(id), "run")
}

// RemoveJob forgets a job; its runs stay.
func (c *Client) RemoveJob(ctx context.Context, id int64) error {
	return remove(ctx, c, nil, "jobs", fmt.Sprint(id))
}
