package estate

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/service/endpoint"
	"bridgespan/tree"
	"bridgespan/tree/bucket/seal"
)

// The files of a folder in a bucket may be sealed: encrypted before they are sent. Its private key is among the records, encrypted as
// passwords are, and in the bucket, encrypted for recovery keys, which the service does not have.

// keyLabel binds an encrypted key to the public one.
func keyLabel(f model.SealedFolder) string { return "sealed folder " + f.Recipient }

// folderKey is the key of a folder of a bucket, or nil when the folder is not sealed.
func (s *Service) folderKey(ctx context.Context, at namespace.Target) (*seal.Key, error) {
	f, is, err := s.db.SealedFolder(ctx, at)
	if err != nil || !is {
		return nil, err
	}
	secret, err := s.db.FolderKey(ctx, f)
	if err != nil {
		return nil, err
	}
	text, err := s.vault.Unseal(keyLabel(f), secret)
	if err != nil {
		return nil, fault.New(fault.Needed, "restore the key file of Bridge Span, or import the key of the folder with a recovery key: bspan cloud key import", "the key of the sealed folder %s does not open with the key file", at).Because(err)
	}
	key, err := seal.ParseKey(text)
	if err == nil && f.Names {
		key = key.WithNames()
	}
	return key, err
}

// SealedPath returns the path of a file in a place by its path in the bucket below that. It returns false for objects that are not the
// place's.
func (s *Service) SealedPath(ctx context.Context, at namespace.Target) (open func(key string) (string, bool), err error) {
	key, err := s.folderKey(ctx, at)
	if err != nil || key == nil {
		return func(path string) (string, bool) { return path, true }, err
	}
	return key.Open, nil
}

// SealedFolders lists the folders of buckets whose files are sealed.
func (s *Service) SealedFolders(ctx context.Context) ([]model.SealedFolder, error) {
	return s.db.SealedFolders(ctx)
}

// CheckSealing returns how the files of a place are to be sealed: as asked, or as they are sealed already.
func (s *Service) CheckSealing(ctx context.Context, field string, at namespace.Target, asked *model.Sealing) (*model.Sealing, error) {
	if asked != nil {
		if _, err := seal.ParseRecoveryKeys(asked.RecoveryKeys); err != nil {
			return nil, faultAt(field+".recoveryKeys", refusedRecovery(err))
		}
	}
	f, is, err := s.db.SealedFolder(ctx, at)
	switch {
	case err != nil:
		return nil, err
	case is && asked != nil && asked.Names != f.Names:
		return nil, fault.Field(field+".names", "seal it as before, or choose another folder", "%s is sealed already, %s", at, withNames(f.Names))
	case is:
		return &f.Sealing, nil
	}
	there, err := s.hasKeyFile(ctx, at)
	if err != nil {
		return nil, faultAt(field, err)
	}
	if there {
		return nil, fault.Field(field, "import its key with: bspan cloud key import "+at.String()+", or choose another folder", "the files in %s are sealed with a key that is not among the records", at)
	}
	return asked, nil
}

func withNames(names bool) string {
	if names {
		return "with the names of files"
	}
	return "without the names of files"
}

// hasKeyFile reports whether a place holds sealed files.
func (s *Service) hasKeyFile(ctx context.Context, at namespace.Target) (bool, error) {
	t, err := s.Open(ctx, at)
	if err != nil {
		return false, err
	}
	defer t.Close()
	_, err = t.Stat(ctx, seal.KeyFile)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// KeepKeyFile puts the key of a sealed folder back into the bucket, for its recovery keys, where somebody has removed it.
func (s *Service) KeepKeyFile(ctx context.Context, at namespace.Target) error {
	f, is, err := s.db.SealedFolder(ctx, at)
	if err != nil || !is {
		return err
	}
	if there, err := s.hasKeyFile(ctx, at); err != nil || there {
		return err
	}
	return s.writeKeyFile(ctx, f, false)
}

// SealFolder seals a folder of a bucket with a new key, unless it is sealed already, and keeps the key in the bucket for the recovery keys. It
// can be called again after a failure.
func (s *Service) SealFolder(ctx context.Context, at namespace.Target, how model.Sealing) (made bool, err error) {
	f, is, err := s.db.SealedFolder(ctx, at)
	if err != nil {
		return false, err
	}
	if !is {
		key, err := seal.NewKey()
		if err != nil {
			return false, err
		}
		if f, err = s.addSealed(ctx, at, how, key, "seal"); err != nil {
			return false, err
		}
	}
	return !is, s.writeKeyFile(ctx, f, false)
}

// addSealed stores the key of a folder.
func (s *Service) addSealed(ctx context.Context, at namespace.Target, how model.Sealing, key *seal.Key, what string) (model.SealedFolder, error) {
	who, _ := access.Actor(ctx)
	f := model.SealedFolder{Server: at.Server, Bucket: at.Share, Folder: at.Sub, Sealing: how, Recipient: key.Recipient(), Created: time.Now().UTC().Truncate(time.Microsecond), By: who.Name}
	return f, s.change(ctx, func(tx *records.Tx) error {
		if err := tx.AddSealedFolder(ctx, f, s.vault.Seal(keyLabel(f), key.Identity())); err != nil {
			return err
		}
		return tx.Record(ctx, access.Change(ctx, "sealed-folder."+what, at.String(), nil, f), "server")
	})
}

// writeKeyFile keeps the key of a folder in the bucket. Without replace, one that is there stays.
func (s *Service) writeKeyFile(ctx context.Context, f model.SealedFolder, replace bool) error {
	at := placeOf(f)
	recovery, err := seal.ParseRecoveryKeys(f.RecoveryKeys)
	if err != nil {
		return refusedRecovery(err)
	}
	key, err := s.folderKey(ctx, at)
	if err != nil {
		return err
	}
	content, err := key.ForRecovery(recovery)
	if err != nil {
		return err
	}
	t, err := s.Open(ctx, at)
	if err != nil {
		return err
	}
	defer t.Close()
	_, err = t.Put(ctx, seal.KeyFile, bytes.NewReader(content), tree.PutOptions{Size: int64(len(content)), SizeKnown: true, Replace: replace})
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	return err
}

// SealedFolder finds the sealed folder whose files are encrypted to a public key.
func (s *Service) SealedFolder(ctx context.Context, recipient string) (model.SealedFolder, error) {
	return s.db.SealedFor(ctx, recipient)
}

// SetRecoveryKeys encrypts the key of a sealed folder for other recovery keys. Its files stay as they are.
func (s *Service) SetRecoveryKeys(ctx context.Context, recipient string, version int64, keys []string) error {
	f, err := s.db.SealedFor(ctx, recipient)
	if err != nil {
		return err
	}
	before := f
	f.RecoveryKeys, f.Version = keys, version
	if _, err := seal.ParseRecoveryKeys(keys); err != nil {
		return refusedRecovery(err)
	}
	err = s.change(ctx, func(tx *records.Tx) error {
		if err := tx.SetRecoveryKeys(ctx, f); err != nil {
			return tx.Since(ctx, err, placeOf(f).String(), version)
		}
		return tx.Record(ctx, access.Change(ctx, "sealed-folder.edit", placeOf(f).String(), before, f), "server")
	})
	if err != nil || records.Rehearsing(ctx) {
		return err
	}
	if err := s.writeKeyFile(ctx, f, true); err != nil {
		return fault.New(fault.Unavailable, "set the recovery keys again", "the recovery keys are stored, but the key in the bucket could not be replaced: %v", err).Because(err)
	}
	return nil
}

func refusedRecovery(err error) error {
	return fault.Field("recoveryKeys", "make a recovery key with: bspan cloud key make FILE", "a recovery key is not accepted: %v", err)
}

// placeOf is where a sealed folder is.
func placeOf(f model.SealedFolder) namespace.Target {
	return namespace.Target{Server: f.Server, Share: f.Bucket, Sub: f.Folder}
}

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
		return f, fault.Field("folder", "remove its key first: bspan cloud key remove "+target.String(), "the key of %s is among the records", target)
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
	if err != nil || records.Rehearsing(ctx) {
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
		return faultAt("bucket", Unavailable(r.Server, err))
	}
	defer t.Close()
	tried, failed := 0, error(nil)
	for e, err := range tree.Walk(ctx, t, ".", tree.Plain) {
		if err != nil {
			return faultAt("bucket", Unavailable(r.Server, err))
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

// RemoveKey removes the key of a folder without a cloud set. Its files can then be opened with a recovery key alone.
func (s *Service) RemoveKey(ctx context.Context, recipient string, version int64) error {
	f, err := s.db.SealedFor(ctx, recipient)
	if err != nil {
		return err
	}
	if f.Set != "" {
		return fault.New(fault.Needed, "remove the set first: bspan replica remove "+f.Set, "the cloud set %s needs the key of %s", f.Set, placeOf(f))
	}
	f.Version = version
	return s.change(ctx, func(tx *records.Tx) error {
		if err := tx.RemoveSealedFolder(ctx, f); err != nil {
			return tx.Since(ctx, err, placeOf(f).String(), version)
		}
		return tx.Record(ctx, access.Change(ctx, "sealed-folder.remove", placeOf(f).String(), f, nil), "server")
	})
}

// Unseal takes back SealFolder, where nothing was put into the folder since. It returns false when files are there.
func (s *Service) Unseal(ctx context.Context, at namespace.Target) (bool, error) {
	t, err := s.Open(ctx, at)
	if err != nil {
		return false, err
	}
	defer t.Close()
	for e, err := range t.List(ctx, ".", tree.Versions) {
		if err != nil {
			return false, err
		}
		if e.Name != "." && !tree.Reserved(e.Name) {
			return false, nil
		}
	}
	if err := t.Remove(ctx, seal.KeyFile); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, fmt.Errorf("remove the key in the bucket: %w", err)
	}
	f, is, err := s.db.SealedFolder(ctx, at)
	if err != nil || !is {
		return err == nil, err
	}
	return true, s.RemoveKey(ctx, f.Recipient, f.Version)
}
