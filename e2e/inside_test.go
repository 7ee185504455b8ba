package e2e

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path"

	"bridgespan/core/acl"
	"bridgespan/tree"
)

// inside is a folder of a tree, as far as tests need it.
type inside struct {
	tree.Tree
	folder string
}

func (i *inside) Open(ctx context.Context, name string) (tree.Content, error) {
	return i.Tree.Open(ctx, path.Join(i.folder, name))
}

func (i *inside) Stat(ctx context.Context, name string) (tree.Entry, error) {
	return i.Tree.Stat(ctx, path.Join(i.folder, name))
}

func (i *inside) Put(ctx context.Context, name string, content io.Reader, options tree.PutOptions) (tree.Entry, error) {
	return i.Tree.Put(ctx, path.Join(i.folder, name), content, options)
}

func (i *inside) Apply(ctx context.Context, name string, meta tree.Meta) error {
	return i.Tree.Apply(ctx, path.Join(i.folder, name), meta)
}

func (i *inside) Descriptor(ctx context.Context, name string) (acl.Descriptor, error) {
	return i.Tree.Descriptor(ctx, path.Join(i.folder, name))
}

func isAbsent(err error) bool { return errors.Is(err, fs.ErrNotExist) }
