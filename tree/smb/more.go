package smb

import (
	"context"
	"errors"
	"os"
	"path"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"

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
	info, err := describe(f)
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

// describeTries bounds how often a file is asked for.
const describeTries = 20

// describe describes an open file. The protocol library offers the server the
// room of a whole message for the answer, also when it was granted fewer credits
// because much is under way; a server that counts ([MS-SMB2] 3.3.5.2.5) refuses
// that, and is asked again.
func describe(f *remoteFile) (info os.FileInfo, err error) {
	for try := range describeTries {
		info, err = f.Stat()
		var refused *smb2.ResponseError
		if !errors.As(err, &refused) || refused.Code != 0xC000000D { // INVALID_PARAMETER
			return info, err
		}
		time.Sleep(time.Duration(try) * time.Millisecond)
	}
	return info, err
}
