package smb

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"

	"bridgespan/core/acl"
	"bridgespan/tree"
)

func (t *Tree) Put(ctx context.Context, name string, r io.Reader, options tree.PutOptions) (tree.Entry, error) {
	share, wire, err := t.begin(ctx, "put", name)
	if err != nil {
		return tree.Entry{}, err
	}
	if options.Version != "" {
		return tree.Entry{}, tree.PathError("put", name, tree.ErrUnsupported)
	}
	var kept acl.Descriptor
	old, err := t.Stat(ctx, name)
	switch {
	case err == nil && old.Kind != tree.File:
		return tree.Entry{}, tree.PathError("put", name, tree.ErrKind)
	case err == nil && !options.Replace:
		return tree.Entry{}, tree.PathError("put", name, fs.ErrExist)
	case err == nil && options.Meta.Descriptor.IsZero():
		// The new file takes the place of the old one, with what was granted
		// on it. Whoever may not read that may not replace the file either:
		// guessing could widen access.
		if kept, err = t.Descriptor(ctx, name); err != nil {
			return tree.Entry{}, err
		}
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return tree.Entry{}, err
	}
	staged := tree.StagingName(name, options)
	_, stagedWire, err := t.begin(ctx, "put", staged)
	if err != nil {
		return tree.Entry{}, err
	}
	if err = t.stage(ctx, share, staged, stagedWire, r, kept, options); err == nil {
		err = t.replaceWith(share, stagedWire, wire, options.Replace)
	}
	if err != nil {
		t.discard(stagedWire)
		return tree.Entry{}, pathError("put", name, err)
	}
	return t.Stat(ctx, name)
}

// discard removes a staged file even when the caller's context has ended.
func (t *Tree) discard(stagedWire string) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	share := t.share.WithContext(ctx)
	if err := share.Remove(stagedWire); errors.Is(Classify(err), fs.ErrPermission) && allowOwner(share, stagedWire) == nil {
		_ = share.Remove(stagedWire)
	}
}

// allowOwner lets the owner of a file do everything with it, and nobody else anything.
// Where people may make files and not remove any, that is how they remove what they made
// a moment ago: an owner may always change permissions ([MS-DTYP] 2.5.3.2).
func allowOwner(share *remoteShare, wire string) error {
	raw, err := share.SecurityInfoRaw(wire, descriptorParts)
	if err != nil {
		return err
	}
	d, err := acl.FromBinary(raw)
	if err != nil {
		return err
	}
	alone, err := acl.Parse("D:P(A;;FA;;;" + d.Parts().Owner.String() + ")")
	if err != nil {
		return err
	}
	return setDescriptor(share, wire, alone, smb2.DACLSecurityInformation)
}

func (t *Tree) stage(ctx context.Context, share *remoteShare, staged, stagedWire string, r io.Reader, kept acl.Descriptor, options tree.PutOptions) error {
	lasting, release := linger(ctx)
	defer release()
	f, err := share.WithContext(lasting).OpenFile(stagedWire, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
	if err != nil {
		return err
	}
	n, err := tree.Gather(ctx, f, r, options)
	if err == nil {
		err = f.Sync()
	}
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		return err
	}
	info, err := share.Stat(stagedWire)
	if err != nil {
		return err
	}
	if info.Size() != n {
		return fmt.Errorf("%w: %d of %d bytes", tree.ErrTorn, info.Size(), n)
	}
	if err := keepDescriptor(share, stagedWire, kept); err != nil {
		return err
	}
	return t.Apply(ctx, staged, options.Meta)
}

// replaceWith renames a staged file. The library's rename always replaces, so
// that a name taken since the first look is looked for once more.
func (t *Tree) replaceWith(share *remoteShare, stagedWire, wire string, replace bool) error {
	if !replace {
		if _, err := share.Stat(wire); err == nil {
			return fs.ErrExist
		}
	}
	return renameError(share.Rename(stagedWire, wire))
}

// keepDescriptor gives a replacement the descriptor of what it replaces. A
// person who may not give files away becomes the owner of what they wrote, as
// when they save it themselves; the entries stay.
func keepDescriptor(share *remoteShare, wire string, kept acl.Descriptor) error {
	if kept.IsZero() {
		return nil
	}
	err := setDescriptor(share, wire, kept, descriptorParts)
	if errors.Is(Classify(err), fs.ErrPermission) {
		return setDescriptor(share, wire, kept, smb2.DACLSecurityInformation)
	}
	return err
}
