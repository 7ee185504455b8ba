// Package sides opens places of servers that are to be put side by side: their
// trees, with what their servers know of accounts.
package sides

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"iter"

	"bridgespan/core/account"
	"bridgespan/core/namespace"
	"bridgespan/core/verify"
	"bridgespan/model"
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

// Away is an error of one side.
type Away struct {
	Side *Side
	error
}

func (a Away) Unwrap() error { return a.error }

// Explain says what an error of one side means; other errors stay as they are.
func Explain(err error) error {
	var a Away
	if errors.As(err, &a) {
		return estate.Unavailable(a.Side.Server, err)
	}
	return err
}

// Words says why something cannot be read.
func Words(err error) string {
	switch {
	case errors.Is(err, fs.ErrPermission):
		return "access denied for the account that Bridge Span uses there"
	case errors.Is(err, tree.ErrInUse):
		return "in use by another program"
	}
	for errors.Unwrap(err) != nil {
		err = errors.Unwrap(err)
	}
	return err.Error()
}

// Items are what a walk through a side meets, as item makes them: what it does
// not want is left out.
func (s *Side) Items(ctx context.Context, walk *tree.Ordered, item func(tree.Named) (verify.Item, bool)) iter.Seq2[verify.Item, error] {
	return func(yield func(verify.Item, error) bool) {
		for m, err := range walk.All(ctx) {
			if err != nil {
				if !yield(verify.Item{}, Away{s, err}) {
					return
				}
				continue
			}
			i, wanted := item(m)
			if m.Unread != nil {
				i.Unread = s.Server.Name + ": " + Words(m.Unread)
			}
			if wanted && !yield(i, nil) {
				return
			}
		}
	}
}
