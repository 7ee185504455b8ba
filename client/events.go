package client

import (
	"context"

	"bridgespan/model"
)

// MakeEventToken makes the token for event notifications of a cloud account.
func (c *Client) MakeEventToken(ctx context.Context, server string) (model.EventToken, error) {
	return add[model.EventToken](ctx, c, nil, "servers", server, "event-token")
}
