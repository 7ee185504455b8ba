package smb

import (
	"context"
	"os"
	"path"

	"bridgespan/tree"
)

// What a tree over SMB can tell beyond the interface of package tree.

// Identify is Stat with the entry's ID, which takes the right to read it and two
// round trips more.
func (t *Tree) Identify(ctx context.Context, name string) (tree.Entry, error) {
	share, wire, err := t.begin(ctx, "stat", name)
	if err != nil {
		return tree.Entry{}, err
	}
	f, err := share.OpenFile(wire, os.O_RDONLY, 0)
	if err != nil {
		return tree.Entry{}, pathError("stat", name, err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return tree.Entry{}, pathError("stat", name, err)
	}
	return toEntry(info, path.Base(name)), nil
}

// MayWrite reports, without changing anything, whether the signed-in account
// is let in to write at name: a folder is opened for adding entries to it, a
// file for writing.
func (t *Tree) MayWrite(ctx context.Context, name string) error {
	share, wire, err := t.begin(ctx, "write", name)
	if err != nil {
		return err
	}
	f, err := share.OpenFile(wire, os.O_RDWR, 0o666)
	if err != nil {
		return pathError("write", name, err)
	}
	return pathError("write", name, f.Close())
}
