package bucket

import (
	"context"
	"io/fs"
	"iter"
	"strings"

	"github.com/minio/minio-go/v7"

	"bridgespan/core/acl"
	"bridgespan/guard"
	"bridgespan/tree"
)

// page is the number of keys in one answer; services send no more.
const page = 1000

// asking is the number of HEAD requests that run side by side.
const asking = 16

// head reads the metadata of an object.
func (t *Tree) head(ctx context.Context, key string) (minio.ObjectInfo, error) {
	o, err := t.core.StatObject(ctx, t.target.Bucket, key, minio.StatObjectOptions{})
	if err == nil && t.target.Seal != nil && !t.isSealed(o.UserMetadata) {
		t.plain.add(key, o.ETag)
	}
	return o, err
}

// first returns the first keys with a prefix, at most most of them.
func (t *Tree) first(ctx context.Context, prefix string, most int) (keys []string, err error) {
	for o := range t.core.ListObjectsIter(ofListing(ctx), t.target.Bucket, minio.ListObjectsOptions{Prefix: prefix, Recursive: true, MaxKeys: most}) {
		if o.Err != nil {
			return nil, o.Err
		}
		if keys = append(keys, o.Key); len(keys) == most {
			break
		}
	}
	return keys, ctx.Err()
}

// Stat describes a file or folder.
func (t *Tree) Stat(ctx context.Context, name string) (tree.Entry, error) {
	e, _, err := t.stat(ctx, "stat", name)
	return e, err
}

// stat describes a file or folder, and returns its object, which is nil for a folder without one.
func (t *Tree) stat(ctx context.Context, op, name string) (tree.Entry, *minio.ObjectInfo, error) {
	key, err := t.begin(ctx, op, name)
	if err != nil {
		return tree.Entry{}, nil, err
	}
	if name != "." {
		o, err := t.head(ctx, key)
		if err == nil {
			return t.entry(name, o), &o, nil
		}
		if !absent(err) {
			return tree.Entry{}, nil, pathError(op, name, err)
		}
	}
	o, err := t.folderObject(ctx, name)
	if err != nil {
		return tree.Entry{}, nil, pathError(op, name, err)
	}
	return t.folder(name, o), o, nil
}

// folderObject returns the object of a folder. It is nil for a folder that was not made by Mkdir; the error is
// fs.ErrNotExist when there is no such folder.
func (t *Tree) folderObject(ctx context.Context, name string) (*minio.ObjectInfo, error) {
	o, err := t.head(ctx, t.mark(name))
	switch {
	case err == nil:
		return &o, nil
	case !absent(err):
		return nil, err
	case name == ".":
		return nil, nil
	}
	keys, err := t.first(ctx, t.below(name), 1)
	if err == nil && len(keys) == 0 {
		err = fs.ErrNotExist
	}
	return nil, err
}

// isFolder reports whether a folder exists.
func (t *Tree) isFolder(ctx context.Context, name string) (bool, error) {
	keys, err := t.first(ctx, t.below(name), 1)
	return len(keys) > 0, err
}

// Descriptor returns the descriptor of a file or folder, which is zero when none was set.
func (t *Tree) Descriptor(ctx context.Context, name string) (acl.Descriptor, error) {
	_, o, err := t.stat(ctx, "descriptor", name)
	if err != nil || o == nil {
		return acl.Descriptor{}, err
	}
	d, err := t.descriptor(ctx, *o)
	return d, pathError("descriptor", name, err)
}

// List yields the entries of a folder. It reads modification times, attributes and descriptors with one request
// for each object, several side by side. With [tree.Versions] it does not, and Modified is the time of the upload.
func (t *Tree) List(ctx context.Context, name string, detail tree.Detail) iter.Seq2[tree.Entry, error] {
	return func(yield func(tree.Entry, error) bool) {
		if _, err := t.begin(ctx, "list", name); err != nil {
			yield(tree.Entry{}, err)
			return
		}
		l := lister{Tree: t, name: name, detail: detail, yield: yield, files: map[string]bool{}}
		if err := l.run(ctx); err != nil {
			yield(tree.Entry{}, pathError("list", name, err))
		}
	}
}

// lister lists one folder.
type lister struct {
	*Tree
	name   string
	detail tree.Detail
	yield  func(tree.Entry, error) bool
	files  map[string]bool // names of files; a folder of the same name is skipped
	listed int
}

// item is an entry that was listed.
type item struct {
	entry tree.Entry
	err   error
	gone  bool // removed since it was listed
}

func (l *lister) run(ctx context.Context) error {
	prefix, seen := l.below(l.name), false
	var items []item
	for o := range l.core.ListObjectsIter(ofListing(ctx), l.target.Bucket, minio.ListObjectsOptions{Prefix: prefix, MaxKeys: page}) {
		if o.Err != nil {
			return o.Err
		}
		seen = true
		if i, ok := l.item(prefix, o); ok {
			items = append(items, i)
		}
		if len(items) == page {
			if more, err := l.tell(ctx, items); err != nil || !more {
				return err
			}
			items = items[:0]
		}
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	if _, err := l.tell(ctx, items); err != nil || seen || l.name == "." {
		return err
	}
	_, err := l.head(ctx, l.key(l.name))
	switch {
	case err == nil:
		return tree.ErrKind
	case absent(err):
		return fs.ErrNotExist
	}
	return err
}

// self is the entry of the folder itself.
var self = tree.Entry{Name: ".", Kind: tree.Folder}

// item converts a listed object. It returns false for keys that no tree can hold, which other clients may have
// written.
func (l *lister) item(prefix string, o minio.ObjectInfo) (item, bool) {
	name, ok := strings.CutPrefix(o.Key, prefix)
	if ok && name == "" && l.detail == tree.Versions {
		return item{entry: self}, true
	}
	name, folder := strings.CutSuffix(name, "/")
	if ok && l.target.Seal != nil {
		name, ok = l.target.Seal.Name(l.name, name)
	}
	if !ok || !tree.IsElement(name, "/") || len(name) > mostElement || folder && l.files[name] {
		return item{}, false
	}
	if folder {
		return item{entry: l.folder(name, nil)}, true
	}
	l.files[name] = true
	return item{entry: l.inListing(name, o)}, true
}

// tell yields entries, and returns false when the caller stopped the listing.
func (l *lister) tell(ctx context.Context, items []item) (more bool, err error) {
	if l.detail != tree.Versions {
		if err := l.complete(ctx, items); err != nil {
			return false, err
		}
	}
	for _, i := range items {
		if i.gone {
			continue
		}
		if l.listed++; l.listed > tree.MostEntries {
			return false, tree.TooMany(l.name)
		}
		if !l.yield(i.entry, i.err) {
			return false, nil
		}
	}
	return true, nil
}

// complete reads the metadata that a listing does not contain.
func (l *lister) complete(ctx context.Context, items []item) error {
	var group guard.Group
	group.SetLimit(asking)
	for i := range items {
		group.Go(func() error {
			l.completeOne(ctx, &items[i])
			return ctx.Err()
		})
	}
	return group.Wait()
}

func (l *lister) completeOne(ctx context.Context, i *item) {
	name := strings.TrimPrefix(l.name+"/", "./") + i.entry.Name
	folder := i.entry.Kind == tree.Folder
	key := l.key(name)
	if folder {
		key = l.mark(name)
	}
	o, err := l.head(ctx, key)
	switch {
	case folder && absent(err):
		return // it has no object
	case absent(err):
		i.gone = true
		return
	case err != nil:
		i.err = pathError("list", name, err)
		return
	case folder:
		i.entry = l.folder(name, &o)
	default:
		i.entry = l.entry(name, o)
	}
	if l.detail == tree.WithDescriptors {
		i.entry.Descriptor, err = l.descriptor(ctx, o)
		i.err = pathError("descriptor", name, err)
	}
}
