// Package endpoint is a server as it is connected to, whatever its kind: a file server over SMB, a host
// where a mover runs, or an account at an object service. What only some endpoints can do is asked for by
// the functions of this package.
package endpoint

import (
	"context"
	"encoding/hex"
	"time"

	"bridgespan/model"
	"bridgespan/mover/edge"
	"bridgespan/mover/front"
	"bridgespan/smbadmin"
	"bridgespan/tree"
	"bridgespan/tree/remote"
	"bridgespan/tree/smb"
)

// Endpoint is a connection to a server. The caller must close it.
type Endpoint interface {
	// Tree opens a share, or a folder in it. The caller must close it, before the endpoint.
	Tree(ctx context.Context, share, sub string) (tree.Tree, error)
	// Shares lists the shares: those of a mover are the folders that it serves.
	Shares(ctx context.Context) ([]model.Share, error)
	// Clock is how far the server's clock is from ours, about.
	Clock(ctx context.Context) (time.Duration, error)
	// Machine tells the machine from all others, whatever it is called.
	Machine(ctx context.Context) (string, error)
	// Greeting says in a few words how we were let in.
	Greeting() string
	Close() error
}

// Administered is an endpoint with accounts, share permissions and sessions.
type Administered interface {
	Session() *smb.Session
}

// Admin administers the server of an endpoint; nil where that has nothing to administer.
func Admin(e Endpoint) *smbadmin.Admin {
	if a, ok := e.(Administered); ok {
		return smbadmin.New(a.Session())
	}
	return nil
}

// Session is the SMB session of an endpoint; nil of one that has none.
func Session(e Endpoint) *smb.Session {
	if a, ok := e.(Administered); ok {
		return a.Session()
	}
	return nil
}

// Front is a front at a mover; false of an endpoint that keeps none.
func Front(e Endpoint, share string) (front.Client, bool) {
	m, ok := e.(*overMover)
	if !ok {
		return front.Client{}, false
	}
	return front.Client{Caller: m.host, Share: share}, true
}

// Edge is an edge in a folder of a mover; false of an endpoint that keeps none.
func Edge(e Endpoint, share, sub string) (edge.Client, bool) {
	m, ok := e.(*overMover)
	if !ok {
		return edge.Client{}, false
	}
	return edge.Client{Caller: m.host, Folder: share, Sub: sub}, true
}

// Host is a mover, with what it reports about itself; false of an endpoint without one.
func Host(e Endpoint) (*remote.Host, remote.Info, bool) {
	m, ok := e.(*overMover)
	if !ok {
		return nil, remote.Info{}, false
	}
	return m.host, m.info, true
}

// SMB signs in to a file server.
func SMB(ctx context.Context, to smb.Target) (Endpoint, error) {
	session, err := smb.Dial(ctx, to)
	if err != nil {
		return nil, err
	}
	return &overSMB{session, to}, nil
}

type overSMB struct {
	session *smb.Session
	to      smb.Target
}

func (o *overSMB) Session() *smb.Session { return o.session }
func (o *overSMB) Close() error          { return o.session.Close() }
func (o *overSMB) Greeting() string      { return "accepted as " + o.to.Account }

func (o *overSMB) Tree(ctx context.Context, share, sub string) (tree.Tree, error) {
	t, err := o.session.Tree(ctx, share, sub)
	if err != nil {
		return nil, err // not a nil *smb.Tree, which is not a nil tree
	}
	return t, nil
}

func (o *overSMB) Shares(ctx context.Context) (shares []model.Share, err error) {
	listed, err := smbadmin.New(o.session).Shares(ctx)
	for _, l := range listed {
		shares = append(shares, model.Share{Name: l.Name, Note: l.Note, Kind: l.Kind, Hidden: l.Hidden, Path: l.Path, Permissions: l.Permissions.String()})
	}
	return shares, err
}

func (o *overSMB) Clock(ctx context.Context) (time.Duration, error) {
	g, err := smbadmin.Negotiate(ctx, o.to.Address)
	return g.ClockDifference, err
}

// Machine goes by the server's own number: the domain controllers of a domain have one SID.
func (o *overSMB) Machine(ctx context.Context) (string, error) {
	g, err := smbadmin.Negotiate(ctx, o.to.Address)
	return "server " + hex.EncodeToString(g.Server[:]), err
}

// Mover connects to a mover.
func Mover(ctx context.Context, to remote.Target) (Endpoint, error) {
	host, info, err := remote.Dial(ctx, to)
	if err != nil {
		return nil, err
	}
	return &overMover{host, info, to.Fingerprint}, nil
}

type overMover struct {
	host        *remote.Host
	info        remote.Info
	certificate string
}

func (o *overMover) Close() error { return o.host.Close() }

func (o *overMover) Greeting() string {
	return o.info.Name + ", known by its certificate, takes the secret; everything is encrypted (TLS 1.3)"
}

func (o *overMover) Tree(ctx context.Context, share, sub string) (tree.Tree, error) {
	t, err := o.host.Tree(ctx, share, sub)
	if err != nil {
		return nil, err
	}
	return t, nil
}

func (o *overMover) Shares(context.Context) (shares []model.Share, err error) {
	for _, f := range o.info.Folders {
		shares = append(shares, model.Share{Name: f.Name, Kind: "disk", Path: f.Path})
	}
	return shares, nil
}

func (o *overMover) Clock(context.Context) (time.Duration, error) {
	return time.Until(o.info.Time), nil
}

func (o *overMover) Machine(context.Context) (string, error) { return "mover " + o.certificate, nil }
