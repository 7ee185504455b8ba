package front

import (
	"context"

	"bridgespan/core/front"
)

// Caller sends a body to a mover, and reads its answer: POST of a path below /v1. Distrust tells that
// the mover sent what no mover sends, and returns that as an error.
type Caller interface {
	Post(ctx context.Context, path []string, body, answer any) error
	Distrust(format string, args ...any) error
}

// Client is the front of one share at a mover.
type Client struct {
	Caller
	Share string
}

func (c Client) call(ctx context.Context, what string, r request) (a reply, err error) {
	if err := c.Post(ctx, []string{"fronts", c.Share, what}, r, &a); err != nil {
		return reply{}, err
	}
	if err := c.check(&a, len(r.Changes)); err != nil {
		return reply{}, err
	}
	return a, nil
}

// Hello asks whether the mover is there. Its answer is another one once the mover was started anew.
func (c Client) Hello(ctx context.Context) (string, error) {
	a, err := c.call(ctx, "hello", request{})
	return a.Started, err
}

// Look reads what stands in the folder of the front.
func (c Client) Look(ctx context.Context) (Found, string, error) {
	a, err := c.call(ctx, "look", request{})
	if err != nil || a.Found == nil {
		return Found{}, a.Folder, err
	}
	return *a.Found, a.Folder, nil
}

// Offered tells how the front's share stands at the file service.
func (c Client) Offered(ctx context.Context) (Offer, string, error) {
	a, err := c.call(ctx, "offered", request{})
	if err != nil || a.Offer == nil {
		return Offer{}, a.Folder, err
	}
	return *a.Offer, a.Folder, nil
}

// Connected tells who has the share open.
func (c Client) Connected(ctx context.Context) ([]Connected, error) {
	a, err := c.call(ctx, "connected", request{})
	return a.Connected, err
}

// Make makes the folder of the front.
func (c Client) Make(ctx context.Context) error {
	_, err := c.call(ctx, "make", request{})
	return err
}

// Offer lets the file service offer the share.
func (c Client) Offer(ctx context.Context, note string) error {
	_, err := c.call(ctx, "offer", request{Note: note})
	return err
}

// Withdraw takes the share away from the file service.
func (c Client) Withdraw(ctx context.Context) error {
	_, err := c.call(ctx, "withdraw", request{})
	return err
}

// Write does changes, and tells which could not be done.
func (c Client) Write(ctx context.Context, changes []front.Change) ([]Outcome, error) {
	a, err := c.call(ctx, "write", request{Changes: changes})
	return a.Failed, err
}

// Clear takes away all that was made of the front.
func (c Client) Clear(ctx context.Context) ([]Outcome, error) {
	a, err := c.call(ctx, "clear", request{})
	return a.Failed, err
}
