package bucket

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"

	rules "bridgespan/core/bucket"
	"bridgespan/core/chunk"
	"bridgespan/tree"
)

// Mkdir makes a folder that exists while it is empty.
func (t *Tree) Mkdir(ctx context.Context, name string) error {
	if _, err := t.begin(ctx, "mkdir", name); err != nil {
		return err
	}
	switch _, _, err := t.stat(ctx, "mkdir", name); {
	case err == nil:
		return tree.PathError("mkdir", name, fs.ErrExist)
	case !absent(err):
		return err
	}
	return pathError("mkdir", name, t.putMark(ctx, name, map[string]string{metaModified: time.Now().UTC().Format(time.RFC3339Nano)}))
}

// putMark writes the object of a folder.
func (t *Tree) putMark(ctx context.Context, name string, meta map[string]string) error {
	_, err := t.core.PutObject(ctx, t.target.Bucket, t.mark(name), bytes.NewReader(nil), 0, "", "", minio.PutObjectOptions{UserMetadata: meta})
	return err
}

// Remove removes a file or an empty folder.
func (t *Tree) Remove(ctx context.Context, name string) error {
	key, err := t.begin(ctx, "remove", name)
	if err != nil {
		return err
	}
	if name == "." {
		return tree.PathError("remove", name, fs.ErrInvalid)
	}
	_, err = t.head(ctx, key)
	if absent(err) {
		key = t.mark(name)
		err = t.mayRemoveFolder(ctx, name)
	}
	if err == nil {
		err = t.remove(ctx, key)
	}
	return pathError("remove", name, err)
}

func (t *Tree) mayRemoveFolder(ctx context.Context, name string) error {
	keys, err := t.first(ctx, t.below(name), 2)
	switch {
	case err != nil:
		return err
	case len(keys) == 0:
		return fs.ErrNotExist
	case len(keys) > 1 || keys[0] != t.mark(name):
		return tree.ErrNotEmpty
	}
	return nil
}

func (t *Tree) remove(ctx context.Context, key string) error {
	return t.core.RemoveObject(ctx, t.target.Bucket, key, minio.RemoveObjectOptions{})
}

// Apply sets metadata of a file or folder. The service copies the object onto itself, unless it has another
// version by now.
func (t *Tree) Apply(ctx context.Context, name string, meta tree.Meta) error {
	e, o, err := t.stat(ctx, "apply", name)
	if err != nil {
		return err
	}
	var before map[string]string
	if o != nil {
		before = o.UserMetadata
	}
	after, err := t.changed(ctx, before, meta)
	switch {
	case err != nil:
	case e.Kind == tree.Folder:
		err = t.putMark(ctx, name, after)
	default:
		err = t.copy(ctx, t.key(name), t.key(name), *o, after)
	}
	return pathError("apply", name, err)
}

// copy copies an object within the service. meta replaces its metadata; nil keeps it.
func (t *Tree) copy(ctx context.Context, from, to string, o minio.ObjectInfo, meta map[string]string) error {
	if o.Size > rules.MostPut {
		source := minio.CopySrcOptions{Bucket: t.target.Bucket, Object: from, MatchETag: o.ETag}
		dest := minio.CopyDestOptions{Bucket: t.target.Bucket, Object: to, UserMetadata: meta, ReplaceMetadata: meta != nil}
		_, err := t.core.ComposeObject(ctx, dest, source)
		return err
	}
	return t.copyAtOnce(ctx, from, to, o, meta, nil)
}

// copyNew copies an object to a key where nothing may be.
func (t *Tree) copyNew(ctx context.Context, from, to string, o minio.ObjectInfo, meta map[string]string) error {
	if o.Size > rules.MostPut {
		return t.copy(ctx, from, to, o, meta)
	}
	err := t.copyAtOnce(ctx, from, to, o, meta, map[string]string{"If-None-Match": "*"})
	switch {
	case answerOf(err).Code == "NotImplemented":
		return t.copyAtOnce(ctx, from, to, o, meta, nil)
	case refusedByCondition(err):
		return fs.ErrExist
	}
	return err
}

// copyAtOnce copies an object of at most rules.MostPut bytes with more headers.
func (t *Tree) copyAtOnce(ctx context.Context, from, to string, o minio.ObjectInfo, meta, headers map[string]string) error {
	all := map[string]string{"x-amz-copy-source-if-match": o.ETag}
	maps.Copy(all, headers)
	if meta != nil {
		all["x-amz-metadata-directive"] = "REPLACE"
		for name, value := range meta {
			all["x-amz-meta-"+strings.ToLower(name)] = value
		}
	}
	_, err := t.core.CopyObject(ctx, t.target.Bucket, from, t.target.Bucket, to, all, minio.CopySrcOptions{Bucket: t.target.Bucket, Object: from, MatchETag: o.ETag}, minio.PutObjectOptions{})
	return err
}

// Assemble copies a whole file within the service, where no file may be: the service makes sure of that, or this does just before, where the
// service has no conditional copies or the file is larger than it copies at once. Ranges of files are not supported.
func (t *Tree) Assemble(ctx context.Context, name, from string, parts []chunk.Part, _ io.ReaderAt, options tree.PutOptions) (tree.Entry, error) {
	if _, err := t.begin(ctx, "assemble", name); err != nil {
		return tree.Entry{}, err
	}
	e, o, err := t.stat(ctx, "assemble", from)
	switch {
	case err != nil:
		return e, err
	case e.Kind != tree.File:
		return e, tree.PathError("assemble", from, tree.ErrKind)
	case len(parts) != 1 || parts[0] != chunk.Part{Length: e.Size}:
		return e, tree.PathError("assemble", name, tree.ErrUnsupported)
	case options.Digest.Known() && e.Digest != options.Digest:
		return e, tree.PathError("assemble", from, tree.ErrVersion)
	}
	if _, _, err := t.stat(ctx, "assemble", name); err == nil {
		return e, tree.PathError("assemble", name, fs.ErrExist)
	} else if !absent(err) {
		return e, err
	}
	if options.Meta.Modified.IsZero() {
		options.Meta.Modified = time.Now()
	}
	meta, err := t.changed(ctx, o.UserMetadata, options.Meta)
	if err == nil {
		err = t.copyNew(ctx, t.key(from), t.key(name), *o, meta)
	}
	if err != nil {
		return e, pathError("assemble", name, err)
	}
	return t.Stat(ctx, name)
}

// Rename moves a file or folder: it copies each object within the service, then removes the old ones. After a
// failure objects may exist at both paths; none is lost.
func (t *Tree) Rename(ctx context.Context, from, to string, replace bool) error {
	if _, err := t.begin(ctx, "rename", to); err != nil {
		return err
	}
	e, o, err := t.stat(ctx, "rename", from)
	if err != nil {
		return err
	}
	if from == "." || to == "." || strings.HasPrefix(to, from+"/") {
		return tree.PathError("rename", to, fmt.Errorf("%w: a folder cannot move into itself", fs.ErrInvalid))
	}
	if from == to {
		return nil
	}
	there, _, err := t.stat(ctx, "rename", to)
	switch {
	case err == nil && (!replace || e.Kind != tree.File || there.Kind != tree.File):
		return tree.PathError("rename", to, fs.ErrExist)
	case err != nil && !absent(err):
		return err
	case e.Kind == tree.Folder:
		return pathError("rename", from, t.renameFolder(ctx, t.below(from), t.below(to)))
	}
	err = t.copy(ctx, t.key(from), t.key(to), *o, nil)
	if err == nil {
		err = t.remove(ctx, t.key(from))
	}
	return pathError("rename", from, err)
}

// renameFolder moves all objects whose keys have a prefix.
func (t *Tree) renameFolder(ctx context.Context, from, to string) error {
	var moved []string
	for o := range t.core.ListObjectsIter(ofListing(ctx), t.target.Bucket, minio.ListObjectsOptions{Prefix: from, Recursive: true}) {
		err := o.Err
		if err == nil {
			err = t.copy(ctx, o.Key, to+strings.TrimPrefix(o.Key, from), o, nil)
		}
		if err != nil {
			return err
		}
		moved = append(moved, o.Key)
	}
	var err error
	for _, key := range moved {
		err = errors.Join(err, t.remove(ctx, key))
	}
	return err
}
