package edge

import (
	"context"
	"errors"
	"fmt"
	"sync/atomic"

	"bridgespan/mover/transfer"
	"bridgespan/tree"
	"bridgespan/tree/bucket"
)

// uploadTarget is the bucket that files of a folder are uploaded to.
type uploadTarget struct {
	source       *bucket.Tree
	endpoint     *transfer.Endpoint
	id           string
	files, bytes atomic.Int64 // that were uploaded
}

func newUploadTarget(ctx context.Context, source *bucket.Tree) (*uploadTarget, error) {
	id, err := source.StoreID(ctx)
	return &uploadTarget{source: source, endpoint: &transfer.Endpoint{Tree: source}, id: id}, err
}

// setUploadTarget lets files of a folder be uploaded to a bucket. The counters go on. k.mu must be held.
func (k *Keeper) setUploadTarget(full string, to *uploadTarget) {
	if k.uploadTargets == nil {
		k.uploadTargets = map[string]*uploadTarget{}
	}
	if was := k.uploadTargets[full]; was != nil {
		to.files.Store(was.files.Load())
		to.bytes.Store(was.bytes.Load())
		was.source.Close()
	}
	k.uploadTargets[full] = to
}

// dropUploadTarget lets no more files of a folder be uploaded. k.mu must be held.
func (k *Keeper) dropUploadTarget(full string) {
	if to := k.uploadTargets[full]; to != nil {
		to.source.Close()
		delete(k.uploadTargets, full)
	}
}

// errNoTarget: the mover has not opened the bucket that a file is to be uploaded to.
var errNoTarget = fmt.Errorf("%w: the mover has not opened this bucket for the folder", tree.ErrUnsupported)

// Upload writes a file of t, which is a folder that the mover serves or one within it, to the bucket of the edge there. See
// [tree.Uploader].
func (k *Keeper) Upload(ctx context.Context, folder, sub string, t tree.Tree, u *tree.Upload) (done tree.Uploaded, err error) {
	full, err := k.pathOf(folder, sub)
	if err != nil {
		return done, err
	}
	k.mu.Lock()
	to := k.uploadTargets[full]
	k.mu.Unlock()
	if to == nil || to.id != u.StoreID {
		return done, errNoTarget
	}
	options := transfer.Options{Meta: u.Options.Meta, Detail: u.Options.Detail, Pace: u.Pace}
	if u.Options.Replace {
		options.Older = &transfer.Known{Path: u.To, Entry: tree.Entry{Version: u.Options.Version}}
	}
	file := transfer.File{Path: u.Name, Entry: u.Expected, Digest: u.Digest}
	file.Entry.Kind = tree.File
	written, err := transfer.Copy(ctx, &transfer.Endpoint{Tree: t}, to.endpoint, file, u.To, options)
	switch {
	case errors.Is(err, transfer.ErrOlderChanged):
		err = tree.ErrVersion
	case errors.Is(err, tree.ErrUnreachable) && ctx.Err() == nil:
		return tree.Uploaded{Failed: err}, nil
	}
	if err != nil {
		return done, err
	}
	to.files.Add(1)
	to.bytes.Add(u.Expected.Size)
	return tree.Uploaded{Entry: written.Entry, Digest: written.Digest}, nil
}
