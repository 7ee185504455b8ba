package client

import (
	"context"

	"bridgespan/model"
)

// MakeEventToken makes the token with which the object service of an account may tell of changes in its buckets.
func (c *Client) MakeEventToken(ctx context.Context, server string) (model.EventToken, error) {
	return add[model.EventToken](ctx, c, nil, "servers", server, "event-token")
}
