package client

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"bridgespan/model"
)

// Fronts lists the fronts of a namespace, or all of them when it is "".
func (c *Client) Fronts(ctx context.Context, namespace string) (model.Fronts, error) {
	return read[model.Fronts](ctx, c, given("namespace", namespace), "fronts")
}

// Front shows a front.
func (c *Client) Front(ctx context.Context, server, share string) (model.Front, error) {
	return read[model.Front](ctx, c, nil, "fronts", server, share)
}

// FrontConnections tells who has a front open.
func (c *Client) FrontConnections(ctx context.Context, server, share string) ([]model.FrontConnection, error) {
	list, err := read[model.FrontConnections](ctx, c, nil, "fronts", server, share, "connected")
	return list.Connected, err
}

// AddFront makes a front, or rehearses that.
func (c *Client) AddFront(ctx context.Context, n model.NewFront) (model.FrontPlan, error) {
	return add[model.FrontPlan](ctx, c, n, "fronts")
}

// EditFront changes a front.
func (c *Client) EditFront(ctx context.Context, server, share string, e model.EditFront) (model.Front, error) {
	return change[model.Front](ctx, c, e, "fronts", server, share)
}

// RemoveFront removes a front, or rehearses that.
func (c *Client) RemoveFront(ctx context.Context, server, share string, how model.RemoveFront) (model.FrontPlan, error) {
	_, etag, err := get[any](ctx, c, nil, "fronts", server, share)
	if err != nil {
		return model.FrontPlan{}, err
	}
	query := url.Values{"rehearse": {fmt.Sprint(how.Rehearse)}}
	if how.Forget {
		query.Set("forget", "true")
	}
	out, _, err := do[model.FrontPlan](ctx, c, request{method: http.MethodDelete, path: []string{"fronts", server, share}, query: query, etag: etag})
	return out, err
}

// CheckFront asks a front as a client does.
func (c *Client) CheckFront(ctx context.Context, server, share string, asked model.AskFrontCheck) (model.Check, error) {
	return add[model.Check](ctx, c, asked, "fronts", server, share, "check")
}

// WhereThroughFront tells where a path leads as the front at a site gives it.
func (c *Client) WhereThroughFront(ctx context.Context, path, from, as string, fresh bool) (model.Directions, error) {
	return read[model.Directions](ctx, c, given("path", path, "from", from, "as", as, "fresh", fmt.Sprint(fresh), "through", "front"), "directions")
}
