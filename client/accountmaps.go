package client

import (
	"context"
	"net/url"

	"bridgespan/model"
)

// AccountMaps lists account maps.
func (c *Client) AccountMaps(ctx context.Context) ([]model.AccountMap, error) {
	return all[model.AccountMap](ctx, c, "account-maps")
}

// AccountMap shows an account map.
func (c *Client) AccountMap(ctx context.Context, name string) (model.AccountMap, error) {
	return read[model.AccountMap](ctx, c, nil, "account-maps", name)
}

// AddAccountMap adds an account map.
func (c *Client) AddAccountMap(ctx context.Context, n model.NewAccountMap) (model.AccountMap, error) {
	return add[model.AccountMap](ctx, c, n, "account-maps")
}

// EditAccountMap changes an account map.
func (c *Client) EditAccountMap(ctx context.Context, name string, e model.EditAccountMap) (model.AccountMap, error) {
	return change[model.AccountMap](ctx, c, e, "account-maps", name)
}

// RemoveAccountMap removes an account map.
func (c *Client) RemoveAccountMap(ctx context.Context, name string) error {
	return remove(ctx, c, nil, "account-maps", name)
}

// AccountPairs tells what an account map says of two servers.
func (c *Client) AccountPairs(ctx context.Context, name, one, other string) (model.AccountPairs, error) {
	return read[model.AccountPairs](ctx, c, url.Values{"one": {one}, "other": {other}}, "account-maps", name, "pairs")
}
