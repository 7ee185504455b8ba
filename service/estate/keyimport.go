package estate

import (
	"context"
	"errors"
	"strings"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/service/endpoint"
	"bridgespan/tree"
	"bridgespan/tree/bucket/seal"
)

// ImportKey stores the key with which a folder was sealed before, as with another installation of Bridge Span.
func (s *Service) ImportKey(ctx context.Context, n model.KeyImport) (f model.SealedFolder, err error) {
	key, err := seal.ParseKey(n.Key)
	if err != nil {
		return f, fault.Field("key", "give the private key that a recovery key opens in "+seal.KeyFile+" of the folder", "the key is not accepted: %v", err)
	}
	v, err := s.db.Server(ctx, n.Server)
	if err != nil {
		return f, at("server", err)
	}
	if !v.Can(model.HoldsBuckets) {
		return f, fault.Field("server", "name a cloud account", "%s has no buckets", v.Name)
	}
	target, err := s.TryTarget(ctx, "bucket", namespace.Target{Server: v.Name, Share: n.Bucket, Sub: strings.Trim(n.Folder, "/")})
	if err != nil {
		return f, err
	}
	if _, is, err := s.db.SealedFolder(ctx, target); err != nil {
		return f, err
	} else if is {
		return f, fault.Field("folder", "remove its key first", "the key of %s is known already", target)
	}
	if _, err := seal.ParseRecoveryKeys(n.RecoveryKeys); err != nil {
		return f, refusedRecovery(err)
	}
	if n.Names {
		key = key.WithNames()
	}
	if err := s.tryKey(ctx, target, key); err != nil {
		return f, err
	}
	f, err = s.addSealed(ctx, target, n.Sealing, key, "import")
	if err != nil {
		return f, err
	}
	return f, s.writeKeyFile(ctx, f, true)
}

// tryKey looks for a file in a folder that a key opens.
func (s *Service) tryKey(ctx context.Context, at namespace.Target, key *seal.Key) error {
	r, err := s.Reach(ctx, at.Server)
	if err != nil {
		return err
	}
	defer r.Close()
	t, err := endpoint.SealedTree(ctx, r.Endpoint, at.Share, at.Sub, key)
	if err != nil {
		return fault.At("bucket", Unavailable(r.Server, err))
	}
	defer t.Close()
	tried, failed := 0, error(nil)
	for e, err := range tree.Walk(ctx, t, ".", tree.Plain) {
		if err != nil {
			return fault.At("bucket", Unavailable(r.Server, err))
		}
		if e.Kind != tree.File || strings.HasPrefix(e.Path, ".bspan/") {
			continue
		}
		if failed = tryFile(ctx, t, e.Path); failed == nil {
			return nil
		}
		if tried++; tried == mostTried {
			break
		}
	}
	if tried == 0 {
		return fault.Field("key", "check the key, the folder, and whether names are sealed", "there is no file in %s that the key opens, %s", at, withNames(key.SealsNames()))
	}
	return fault.Field("key", "check the key, and the folder", "the key does not open the files in %s: %v", at, failed)
}

// mostTried bounds the files that a key is tried with.
const mostTried = 20

// errPlain: a file is not sealed.
var errPlain = errors.New("they are not sealed")

// tryFile opens a sealed file.
func tryFile(ctx context.Context, t tree.Tree, name string) error {
	c, err := t.Open(ctx, name)
	if err != nil {
		return err
	}
	defer c.Close()
	e := c.Entry()
	if e.Allocated == e.Size || e.Size == 0 { // an empty file tells nothing about the key
		return errPlain
	}
	_, err = c.ReadAt(make([]byte, 1), 0)
	return err
}
