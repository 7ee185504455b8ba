// Package sides opens places of servers that are to be put side by side: their
// trees, with what their servers know of accounts.
package sides

import (
	"context"
	"errors"
	"fmt"

	"bridgespan/core/account"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/mover/compare"
	"bridgespan/service/accounts"
	"bridgespan/service/estate"
	"bridgespan/tree"
)

// Side is one of the places.
type Side struct {
	Server model.Server
	Tree   tree.Tree
	// At asks the server for accounts.
	At *accounts.At

	reach  *estate.Reach
	realms []account.Realm
}

// Open opens a place. The error says which place it is about, what it means and
// what to do. The caller must close the side.
func Open(ctx context.Context, e *estate.Service, a *accounts.Service, t namespace.Target) (*Side, error) {
	r, err := e.Reach(ctx, t.Server)
	if err != nil {
		return nil, err
	}
	s := &Side{Server: r.Server, reach: r}
	opened, err := r.Tree(ctx, t.Share, t.Sub)
	if err == nil {
		s.Tree = opened
		if s.At, err = a.At(ctx, r.Server, r.Admin()); err == nil {
			s.realms = a.Realms(s.At)
			return s, nil
		}
	}
	s.Close()
	return nil, fmt.Errorf("%s: %w", t, estate.Unavailable(r.Server, err))
}

// Close ends the connection with the server.
func (s *Side) Close() {
	if s.At != nil {
		s.At.Close()
	}
	if s.Tree != nil {
		_ = s.Tree.Close()
	}
	_ = s.reach.Close()
}

// Local reports of accounts whether they are those of one of some servers alone.
func Local(all ...*Side) func(account.SID) bool {
	return func(sid account.SID) bool {
		for _, s := range all {
			if o := account.Describe(sid, s.realms).Origin; o == account.OfServer || o == account.OfUnixHost {
				return true
			}
		}
		return false
	}
}

// Compared is the side as one of those that are compared.
func (s *Side) Compared() compare.Side { return compare.Side{Name: s.Server.Name, Tree: s.Tree} }

// Explain says what an error of a comparison of two sides means; other errors stay as they
// are.
func Explain(err error, first, second *Side) error {
	var at *compare.SideError
	if errors.As(err, &at) {
		return estate.Unavailable([]*Side{first, second}[at.Side].Server, err)
	}
	return err
}
