package estate

import (
	"context"
	"slices"

	"bridgespan/model"
	"bridgespan/tree"
)

// Volumes tells the storage under the shares of a server. Servers do not say
// which shares lie on the same volume: those whose capacity and free space are
// the same at one time are taken for it.
func (s *Service) Volumes(ctx context.Context, server string) ([]model.Volume, error) {
	r, err := s.Reach(ctx, server)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	shares, err := r.shares(ctx)
	if err != nil {
		return nil, Unavailable(r.Server, err)
	}
	volumes := []model.Volume{}
	for _, h := range shares {
		if h.Kind != "disk" {
			continue
		}
		t, err := r.Tree(ctx, h.Name, "")
		if err != nil {
			continue // not let in: its volume cannot be told
		}
		space, err := t.Space(ctx)
		t.Close()
		if err != nil {
			continue
		}
		i := slices.IndexFunc(volumes, func(o model.Volume) bool { return alike(o, space) })
		if i < 0 {
			volumes = append(volumes, model.Volume{Total: space.Total, Free: space.Free})
			i = len(volumes) - 1
		}
		volumes[i].Shares = append(volumes[i].Shares, h.Name)
	}
	return volumes, nil
}

// alike allows for what was written between two looks.
func alike(v model.Volume, s tree.Space) bool {
	return v.Total == s.Total && max(v.Free-s.Free, s.Free-v.Free) < s.Total/1000
}
