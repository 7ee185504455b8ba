package rights

import (
	"context"
	"path"
	"strings"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
)

// throughFileServer returns the share of the file server on the same host through which people reach a folder of a mover. Other
// places are returned unchanged.
func (s *Service) throughFileServer(ctx context.Context, t namespace.Target) (namespace.Target, error) {
	v, err := s.db.Server(ctx, t.Server)
	if err != nil || v.Beside == "" {
		return t, err
	}
	folders, err := s.db.Shares(ctx, v.Name)
	if err != nil {
		return t, err
	}
	for _, f := range folders {
		if namespace.Key(f.Name) != namespace.Key(t.Share) {
			continue
		}
		shares, err := s.db.Shares(ctx, v.Beside)
		if err != nil {
			return t, err
		}
		share, sub, ok := shareOver(f.Path, shares)
		if !ok {
			return t, fault.New(fault.NotFound, "list its shares with: bspan share list "+v.Beside, "no share of %s has the folder %s of %s", v.Beside, f.Path, v.Name)
		}
		return namespace.Target{Server: v.Beside, Share: share, Sub: path.Join(sub, t.Sub)}, nil
	}
	return t, nil // the error is reported when the folder is opened
}

// shareOver finds the innermost share that contains a folder of the same host, and the path within it.
func shareOver(folder string, shares []model.Share) (share, sub string, ok bool) {
	folder, nearest := hostPath(folder), ""
	for _, h := range shares {
		at := hostPath(h.Path)
		if h.Path == "" || len(at) < len(nearest) || folder != at && !strings.HasPrefix(folder, strings.TrimSuffix(at, "/")+"/") {
			continue
		}
		share, sub, nearest, ok = h.Name, strings.Trim(strings.TrimPrefix(folder, at), "/"), at, true
	}
	return share, sub, ok
}

// hostPath writes the path of a share as its host does: file services show drives and backslashes to their clients.
func hostPath(p string) string {
	if len(p) > 1 && p[1] == ':' {
		p = p[2:]
	}
	return path.Clean("/" + strings.ReplaceAll(p, `\`, "/"))
}
