package estate

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
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
		return nil, fault.New(fault.Needed, "restore the key file of Bridge Span, or remove the key of the folder and import it with a recovery key", "the key of the sealed folder %s does not open with the key file", at).Because(err)
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
			return nil, fault.At(field+".recoveryKeys", refusedRecovery(err))
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
		return nil, fault.At(field, err)
	}
	if there {
		return nil, fault.Field(field, "import its key, or choose another folder", "the files in %s are sealed with an unknown key", at)
	}
	return asked, nil
}

func withNames(names bool) string {
	if names {
		return "with the names of files"
	}
	return "without the names of files"
}

// SealFolder seals a folder of a bucket with a new key, unless it is sealed already, and stores the key in the bucket for the recovery keys.
// It can be called again after a failure.
func (s *Service) SealFolder(ctx context.Context, at namespace.Target, how model.Sealing) error {
	f, is, err := s.db.SealedFolder(ctx, at)
	if err != nil {
		return err
	}
	if !is {
		key, err := seal.NewKey()
		if err != nil {
			return err
		}
		if f, err = s.addSealed(ctx, at, how, key, "seal"); err != nil {
			return err
		}
	}
	return s.writeKeyFile(ctx, f, false)
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

// SealedFolder finds the sealed folder whose files are encrypted to a public key.
func (s *Service) SealedFolder(ctx context.Context, recipient string) (model.SealedFolder, error) {
	return s.db.SealedFor(ctx, recipient)
}

// placeOf is where a sealed folder is.
func placeOf(f model.SealedFolder) namespace.Target {
	return namespace.Target{Server: f.Server, Share: f.Bucket, Sub: f.Folder}
}

// Unseal takes back SealFolder. A folder that files were sealed in meanwhile stays sealed: they need its key.
func (s *Service) Unseal(ctx context.Context, at namespace.Target) error {
	t, err := s.Open(ctx, at)
	if err != nil {
		return err
	}
	defer t.Close()
	for e, err := range t.List(ctx, ".", tree.Versions) {
		if err != nil {
			return err
		}
		if e.Name != "." && !tree.Reserved(e.Name) {
			return nil
		}
	}
	if err := t.Remove(ctx, seal.KeyFile); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("remove the key in the bucket: %w", err)
	}
	f, is, err := s.db.SealedFolder(ctx, at)
	if err != nil || !is {
		return err
	}
	return s.RemoveKey(ctx, f.Recipient, f.Version)
}
