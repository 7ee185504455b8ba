package smb

import (
	"context"
	"errors"
	"io/fs"
	"os"

	"bridgespan/core/acl"
	"bridgespan/tree"
)

// trialSuffix ends the name of an empty file beside another one, on which it is tried
// whether permissions let us in.
const trialSuffix = ".try"

// admits returns tree.ErrKeepsOut when a descriptor would not let us move and remove the
// file that we are about to make: it would stay where it was made, in our way, for good.
// That is tried on an empty file, once for each descriptor: the folders in which files
// are staged are alike.
func (t *Tree) admits(ctx context.Context, share *remoteShare, wire string, d acl.Descriptor) error {
	known, ok := t.admitted.Get(d)
	for !ok {
		_, err, _ := t.trials.Do(string(d.Binary()), func() (any, error) { return nil, t.try(share, wire+trialSuffix, d) })
		switch {
		case errors.Is(err, context.Canceled) && ctx.Err() == nil: // somebody else's trial, who has given up
			continue
		case err != nil && !errors.Is(err, tree.ErrKeepsOut):
			return err
		}
		known, ok = err == nil, true
		t.admitted.Add(d, known)
	}
	if !known {
		return tree.ErrKeepsOut
	}
	return nil
}

// try makes an empty file with a descriptor, and removes it.
func (t *Tree) try(share *remoteShare, wire string, d acl.Descriptor) error {
	f, err := share.OpenFile(wire, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o666)
	if err == nil {
		err = f.Close()
	}
	if err != nil {
		return err
	}
	if err := setDescriptor(share, wire, d, descriptorParts); err != nil {
		return errors.Join(err, share.Remove(wire))
	}
	if err = share.Remove(wire); errors.Is(Classify(err), fs.ErrPermission) {
		err = tree.ErrKeepsOut
	}
	return err
}
