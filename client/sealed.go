package client

import (
	"context"

	"bridgespan/model"
)

// SealedFolders lists the folders of buckets whose files are sealed.
func (c *Client) SealedFolders(ctx context.Context) ([]model.SealedFolder, error) {
	return all[model.SealedFolder](ctx, c, "sealed-folders")
}

// ImportKey imports the key of a folder that was sealed before.
func (c *Client) ImportKey(ctx context.Context, n model.KeyImport) (model.SealedFolder, error) {
	return add[model.SealedFolder](ctx, c, n, "sealed-folders")
}

// SetRecoveryKeys sets the recovery keys of the folder whose files are encrypted to a public key.
func (c *Client) SetRecoveryKeys(ctx context.Context, recipient string, keys []string) (model.SealedFolder, error) {
	return change[model.SealedFolder](ctx, c, model.EditSealedFolder{RecoveryKeys: keys}, "sealed-folders", recipient)
}

// RemoveFolderKey removes the key of a sealed folder without a cloud set.
func (c *Client) RemoveFolderKey(ctx context.Context, recipient string) error {
	return remove(ctx, c, nil, "sealed-folders", recipient)
}

// MakeRecoveryKey makes a pair of keys for recovery. The service does not keep it.
func (c *Client) MakeRecoveryKey(ctx context.Context) (model.RecoveryKey, error) {
	return add[model.RecoveryKey](ctx, c, nil, "recovery-keys")
}
