package estate

import (
	"bytes"
	"context"
	"errors"
	"io/fs"

	"bridgespan/core/fault"
	"bridgespan/core/namespace"
	"bridgespan/model"
	"bridgespan/records"
	"bridgespan/service/access"
	"bridgespan/tree"
	"bridgespan/tree/bucket/seal"
)

// The key file of a sealed folder is an object in the bucket: the key of the folder, encrypted for its recovery keys.

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

// writeKeyFile stores the key of a folder in the bucket. Without replace, an existing key file stays.
func (s *Service) writeKeyFile(ctx context.Context, f model.SealedFolder, replace bool) error {
	if records.Rehearsing(ctx) {
		return nil
	}
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
	if err != nil {
		return err
	}
	if err := s.writeKeyFile(ctx, f, true); err != nil {
		return fault.New(fault.Unavailable, "set the recovery keys again", "the recovery keys are stored, but the key in the bucket could not be replaced: %v", err).Because(err)
	}
	return nil
}

func refusedRecovery(err error) error {
	return fault.Field("recoveryKeys", "make a recovery key, and enter its public part, which begins with age1", "a recovery key is not accepted: %v", err)
}

// RemoveKey removes the key of a folder without a cloud set. Its files can then be opened with a recovery key alone.
func (s *Service) RemoveKey(ctx context.Context, recipient string, version int64) error {
	f, err := s.db.SealedFor(ctx, recipient)
	if err != nil {
		return err
	}
	if f.Set != "" {
		return fault.New(fault.Needed, "remove the set first", "the cloud set %s needs the key of %s", f.Set, placeOf(f))
	}
	f.Version = version
	return s.change(ctx, func(tx *records.Tx) error {
		if err := tx.RemoveSealedFolder(ctx, f); err != nil {
			return tx.Since(ctx, err, placeOf(f).String(), version)
		}
		return tx.Record(ctx, access.Change(ctx, "sealed-folder.remove", placeOf(f).String(), f, nil), "server")
	})
}
