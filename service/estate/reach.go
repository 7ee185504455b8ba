package estate

import (
	"context"
	"errors"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/smbadmin"
	"bridgespan/tree"
	"bridgespan/tree/remote"
	"bridgespan/tree/smb"
)

// Reach is a connection to a server of either kind.
type Reach struct {
	Server model.Server
	// SMB is the session with a file server; nil where a mover runs.
	SMB  *smb.Session
	host *remote.Host
	info remote.Info
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
	if err != nil {
		return nil, err
	}
	return reachAt(ctx, v, s.target(v, password))
}

// reachAt reaches a server; of a mover, the password is its secret.
func reachAt(ctx context.Context, v model.Server, to smb.Target) (r *Reach, err error) {
	r = &Reach{Server: v}
	if v.IsMover() {
		r.host, r.info, err = remote.Dial(ctx, remote.Target{Address: hostPort(v), Secret: to.Password, Fingerprint: v.Certificate, Timeout: tryTimeout, Untrusted: to.Untrusted})
	} else {
		r.SMB, err = smb.Dial(ctx, to)
	}
	if err != nil {
		return nil, err
	}
	return r, nil
}

// Close ends the connection.
func (r *Reach) Close() error {
	if r.SMB != nil {
		return r.SMB.Close()
	}
	return r.host.Close()
}

// Tree opens a share, or a folder in it. The caller must close it, before the
// connection.
func (r *Reach) Tree(ctx context.Context, share, sub string) (tree.Tree, error) {
	if r.SMB == nil {
		t, err := r.host.Tree(ctx, share, sub)
		if err != nil {
			return nil, err
		}
		return t, nil
	}
	t, err := r.SMB.Tree(ctx, share, sub)
	if err != nil {
		return nil, err
	}
	return t, nil
}

// Admin administers a file server; nil where a mover runs, which has no accounts.
func (r *Reach) Admin() *smbadmin.Admin {
	if r.SMB == nil {
		return nil
	}
	return smbadmin.New(r.SMB)
}

// shares lists shares: those of a mover are the folders that it serves.
func (r *Reach) shares(ctx context.Context) ([]model.Share, error) {
	if r.SMB != nil {
		return listShares(ctx, r.Server.Name, r.SMB)
	}
	seen := time.Now().UTC().Truncate(time.Microsecond)
	var shares []model.Share
	for _, f := range r.info.Folders {
		shares = append(shares, model.Share{Server: r.Server.Name, Name: f.Name, Kind: "disk", Path: f.Path, Seen: seen})
	}
	return shares, nil
}

// Clock is how far the server's clock is from ours, about.
func (r *Reach) Clock(ctx context.Context) (time.Duration, error) {
	if r.SMB == nil {
		return time.Until(r.info.Time), nil
	}
	g, err := smbadmin.Negotiate(ctx, hostPort(r.Server))
	return g.ClockDifference, err
}

// Whole is a tree that ends its connection when it is closed.
func (r *Reach) Whole(ctx context.Context, share, sub string) (tree.Tree, error) {
	t, err := r.Tree(ctx, share, sub)
	if err != nil {
		return nil, errors.Join(err, r.Close())
	}
	switch t := t.(type) {
	case *smb.Tree:
		return &overSMB{t, r}, nil
	case *remote.Tree:
		return &overMover{t, r}, nil
	}
	panic("a tree of neither kind")
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

// With all that they can beyond a tree.Tree.
type (
	overSMB struct {
		*smb.Tree
		reach *Reach
	}
	overMover struct {
		*remote.Tree
		reach *Reach
	}
)

func (o *overSMB) Close() error {
	_ = o.Tree.Close()
	return o.reach.Close()
}

func (o *overMover) Close() error { return o.reach.Close() }

// noMover is the fault of asking a mover for what a file server alone has.
func noMover(v model.Server) error {
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
