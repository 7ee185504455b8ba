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

// outlet is the bucket that files of a folder are uploaded to.
type outlet struct {
	source       *bucket.Tree
	endpoint     *transfer.Endpoint
	id           string
	files, bytes atomic.Int64 // that were uploaded
}

func newOutlet(ctx context.Context, source *bucket.Tree) (*outlet, error) {
	id, err := source.StoreID(ctx)
	return &outlet{source: source, endpoint: &transfer.Endpoint{Tree: source}, id: id}, err
}

// use makes an outlet the one of a folder. What was uploaded before counts on. k.mu must be held.
func (k *Keeper) use(full string, out *outlet) {
	if k.outlets == nil {
		k.outlets = map[string]*outlet{}
	}
	if was := k.outlets[full]; was != nil {
		out.files.Store(was.files.Load())
		out.bytes.Store(was.bytes.Load())
		was.source.Close()
	}
	k.outlets[full] = out
}

// drop ends the outlet of a folder. k.mu must be held.
func (k *Keeper) drop(full string) {
	if out := k.outlets[full]; out != nil {
		out.source.Close()
		delete(k.outlets, full)
	}
}

// errNoOutlet: the mover has not opened the bucket that a file is to be uploaded to.
var errNoOutlet = fmt.Errorf("%w: the mover has not opened this bucket for the folder", tree.ErrUnsupported)

// Upload writes a file of t, which is a folder that the mover serves or one within it, to the bucket of the edge there. See
// [tree.Uploader].
func (k *Keeper) Upload(ctx context.Context, folder, sub string, t tree.Tree, u *tree.Upload) (done tree.Uploaded, err error) {
	full, err := k.pathOf(folder, sub)
	if err != nil {
		return done, err
	}
	k.mu.Lock()
	out := k.outlets[full]
	k.mu.Unlock()
	if out == nil || out.id != u.StoreID {
		return done, errNoOutlet
	}
	options := transfer.Options{Meta: u.Options.Meta, Detail: u.Options.Detail, Pace: u.Pace}
	if u.Options.Replace {
		options.Older = &transfer.Known{Path: u.To, Entry: tree.Entry{Version: u.Options.Version}}
	}
	file := transfer.File{Path: u.Name, Entry: u.Expected, Digest: u.Digest}
	file.Entry.Kind = tree.File
	written, err := transfer.Copy(ctx, &transfer.Endpoint{Tree: t}, out.endpoint, file, u.To, options)
	switch {
	case errors.Is(err, transfer.ErrOlderChanged):
		err = tree.ErrVersion
	case errors.Is(err, tree.ErrUnreachable) && ctx.Err() == nil:
		return tree.Uploaded{Failed: err}, nil
	}
	if err != nil {
		return done, err
	}
	out.files.Add(1)
	out.bytes.Add(u.Expected.Size)
	return tree.Uploaded{Entry: written.Entry, Digest: written.Digest}, nil
}
