package estate

import (
	"context"
	"errors"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/service/endpoint"
	"bridgespan/smbadmin"
	"bridgespan/tree"
	"bridgespan/tree/remote"
	"bridgespan/tree/smb"
)

// Reach is a connection to a server of any kind.
type Reach struct {
	Server model.Server
	endpoint.Endpoint
	estate *Service // nil while a server is tried that is not stored yet
}

// Tree opens a share, or a folder in it. What is sealed is opened with its key.
func (r *Reach) Tree(ctx context.Context, share, sub string) (tree.Tree, error) {
	if r.estate == nil || !r.Server.Can(model.HoldsBuckets) {
		return r.Endpoint.Tree(ctx, share, sub)
	}
	key, err := r.estate.folderKey(ctx, namespace.Target{Server: r.Server.Name, Share: share, Sub: sub})
	if err != nil {
		return nil, err
	}
	if key == nil {
		return r.Endpoint.Tree(ctx, share, sub)
	}
	return endpoint.SealedTree(ctx, r.Endpoint, share, sub, key)
}

// Reach reaches a server that is found by name. The caller must close it.
func (s *Service) Reach(ctx context.Context, server string) (*Reach, error) {
	v, err := s.db.Server(ctx, server)
	if err != nil {
		return nil, err
	}
	r, err := s.reach(ctx, v)
	if err != nil {
		return nil, Unavailable(v, err)
	}
	return r, nil
}

func (s *Service) reach(ctx context.Context, v model.Server) (*Reach, error) {
	password, err := s.password(ctx, v)
	if err == nil {
		err = s.withProxy(ctx, &v)
	}
	if err != nil {
		return nil, err
	}
	r, err := reachAt(ctx, v, s.target(v, password))
	if err == nil {
		r.estate = s
	}
	return r, err
}

// reachAt reaches a server; where it shows a certificate, the password is the secret.
func reachAt(ctx context.Context, v model.Server, to smb.Target) (r *Reach, err error) {
	r = &Reach{Server: v}
	switch {
	case v.Can(model.ShowsCertificate):
		r.Endpoint, err = endpoint.Mover(ctx, remote.Target{Address: hostPort(v), Secret: to.Password, Fingerprint: v.Certificate, Timeout: tryTimeout, Untrusted: to.Untrusted})
	case v.Can(model.HoldsBuckets):
		r.Endpoint, err = cloudAt(ctx, v, to.Password)
	default:
		r.Endpoint, err = endpoint.SMB(ctx, to)
	}
	if err != nil {
		return nil, err
	}
	return r, nil
}

// Admin administers a server; nil where nothing is to be administered, nor accounts are.
func (r *Reach) Admin() *smbadmin.Admin { return endpoint.Admin(r.Endpoint) }

// shares lists shares as they are kept.
func (r *Reach) shares(ctx context.Context) ([]model.Share, error) {
	shares, err := r.Shares(ctx)
	seen := time.Now().UTC().Truncate(time.Microsecond)
	for i := range shares {
		shares[i].Server, shares[i].Seen = r.Server.Name, seen
	}
	return shares, err
}

// Whole is a tree that ends its connection when it is closed.
func (r *Reach) Whole(ctx context.Context, share, sub string) (tree.Tree, error) {
	t, err := r.Tree(ctx, share, sub)
	if err != nil {
		return nil, errors.Join(err, r.Close())
	}
	return newWhole(t, r), nil
}

// whole is a tree with the connection that it lives on.
type whole struct {
	tree.Forwarder
	below tree.Tree
	reach *Reach
}

func newWhole(t tree.Tree, r *Reach) *whole {
	w := &whole{below: t, reach: r}
	w.Use = func(_ context.Context, _ bool, do func(tree.Tree) error) error { return do(t) }
	return w
}

func (w *whole) Capabilities() tree.Capabilities { return w.below.Capabilities() }

func (w *whole) Close() error {
	_ = w.below.Close()
	return w.reach.Close()
}

// Open opens a folder of a share with the account that we have at its server. The caller
// must close it. Errors say what they mean and what to do.
func (s *Service) Open(ctx context.Context, target namespace.Target) (tree.Tree, error) {
	r, err := s.Reach(ctx, target.Server)
	if err != nil {
		return nil, err
	}
	t, err := r.Whole(ctx, target.Share, target.Sub)
	if err != nil {
		return nil, Unavailable(r.Server, err)
	}
	return t, nil
}

// notSMB is the fault of asking a mover or an object service for something that only SMB file servers have.
func notSMB(v model.Server) error {
	if v.Can(model.HoldsBuckets) {
		return fault.New(fault.Invalid, "name a file server that is reached by SMB", "%s is an account at an object service: it has no share permissions or sessions, and people cannot be led there", v.Name)
	}
	return fault.New(fault.Invalid, "name a file server that is reached by SMB", "%s is a host where a mover runs: it has no accounts, share permissions or sessions, and people cannot be led there", v.Name)
}

// MayWrite returns an error unless we may write in a folder, or that cannot be told
// without writing.
func MayWrite(ctx context.Context, t tree.Tree, folder string) error {
	if err := tree.MayWrite(ctx, t, folder); !errors.Is(err, tree.ErrUnsupported) {
		return err
	}
	return nil
}
