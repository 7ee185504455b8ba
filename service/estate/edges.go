package estate

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/mover/edge"
	"bridgespan/service/endpoint"
	"bridgespan/tree"
)

// edgeBucket are the settings with which a mover opens the bucket of a cloud set.
func (s *Service) edgeBucket(ctx context.Context, hub namespace.Target) (b edge.Bucket, err error) {
	v, err := s.db.Server(ctx, hub.Server)
	if err != nil {
		return b, err
	}
	if v.Cloud == nil {
		return b, fault.Field("replicas[0].server", "make a bucket the first replica", "%s is not a cloud", v.Name)
	}
	secret, err := s.password(ctx, v)
	if err == nil {
		err = s.withProxy(ctx, &v)
	}
	if err != nil {
		return b, err
	}
	b = edge.Bucket{Endpoint: hostPort(v), Plain: v.Cloud.Plain, Region: v.Cloud.Region, PathStyle: v.Cloud.PathStyle, Authority: v.Cloud.Authority, Proxy: v.Cloud.Proxy, ProxyPassword: string(v.Cloud.ProxyPassword),
		Bucket: hub.Share, Prefix: hub.Sub, Key: v.Account, Secret: secret}
	key, err := s.folderKey(ctx, hub)
	if key != nil {
		b.SealWith(key)
	}
	return b, err
}

// BucketFrom has a mover open a bucket, and measures the delay of one request from there.
func (s *Service) BucketFrom(ctx context.Context, mover edge.Caller, hub namespace.Target) (r edge.Reached, err error) {
	b, err := s.edgeBucket(ctx, hub)
	if err != nil {
		return r, err
	}
	return edge.Reach(ctx, mover, b)
}

// SetEdge makes an edge of a folder at a mover, or changes it: from then on, the mover fills its stubs out of the bucket, and uploads its
// files.
func (s *Service) SetEdge(ctx context.Context, at, hub namespace.Target, p *model.EdgePolicy) error {
	return s.setEdge(ctx, at, hub, edge.Settings{Refused: p.Refused, Wait: p.WaitS})
}

// LetUpload lets the mover of a folder upload its files to a bucket. It does nothing where no mover is, or no bucket.
func (s *Service) LetUpload(ctx context.Context, at, hub namespace.Target) error {
	for _, needs := range []struct {
		server  string
		ability model.Ability
	}{{at.Server, model.OpensBuckets}, {hub.Server, model.HoldsBuckets}} {
		if v, err := s.db.Server(ctx, needs.server); err != nil || !v.Can(needs.ability) {
			return err
		}
	}
	return s.setEdge(ctx, at, hub, edge.Settings{Whole: true})
}

func (s *Service) setEdge(ctx context.Context, at, hub namespace.Target, settings edge.Settings) (err error) {
	if settings.Bucket, err = s.edgeBucket(ctx, hub); err != nil {
		return err
	}
	return s.withEdge(ctx, at, func(c edge.Client) error {
		_, err := c.Set(ctx, settings)
		return err
	})
}

// RemoveEdge ends an edge at its mover, or lets it upload no more files of a folder. Its stubs stay, and nobody can read them any more.
func (s *Service) RemoveEdge(ctx context.Context, at namespace.Target) error {
	return s.withEdge(ctx, at, func(c edge.Client) error { return c.Remove(ctx) })
}

// LookAtEdge tells how an edge is at its mover, or whether a folder could be one.
func (s *Service) LookAtEdge(ctx context.Context, at namespace.Target) (status edge.Status, err error) {
	err = s.withEdge(ctx, at, func(c edge.Client) error {
		status, err = c.Look(ctx)
		return err
	})
	return status, err
}

func (s *Service) withEdge(ctx context.Context, at namespace.Target, do func(edge.Client) error) error {
	v, err := s.db.Server(ctx, at.Server)
	if err != nil {
		return err
	}
	noMover := fmt.Errorf("%w: %s has no mover", tree.ErrUnsupported, at.Server)
	if !v.Can(model.OpensBuckets) {
		return noMover
	}
	r, err := s.reach(ctx, v)
	if err != nil {
		return Unavailable(v, err)
	}
	defer r.Close()
	c, ok := endpoint.Edge(r.Endpoint, at.Share, at.Sub)
	if !ok {
		return noMover
	}
	return do(c)
}

// LookForStubs tells how stubs in a folder are, or would be. A folder that is not there yet is taken for one on the volume of its share.
func (s *Service) LookForStubs(ctx context.Context, at namespace.Target) (edge.Status, error) {
	status, err := s.LookAtEdge(ctx, at)
	if errors.Is(err, fs.ErrNotExist) && at.Sub != "" {
		at.Sub = ""
		return s.LookAtEdge(ctx, at)
	}
	return status, err
}

// CheckEdge returns a fault at a field when a folder cannot hold stubs.
func (s *Service) CheckEdge(ctx context.Context, field string, at namespace.Target) error {
	status, err := s.LookForStubs(ctx, at)
	switch {
	case errors.Is(err, fs.ErrNotExist): // its share is looked at elsewhere
		return nil
	case errors.Is(err, tree.ErrUnsupported):
		return fault.Field(field, "start a mover on that server, or keep whole files there", "%s has no mover, which stubs need", at.Server)
	case err != nil:
		return err
	case !status.Edge && status.Kernel != "":
		return fault.Field(field, "choose a folder on a volume of its own, such as of ext4, on a host whose kernel tells of opened files (fanotify), or keep whole files there", "%s cannot hold stubs: %s", at, status.Kernel)
	}
	return nil
}
