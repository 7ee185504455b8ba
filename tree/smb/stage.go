package smb

import (
	"context"
	"fmt"
	"io"
	"os"
	"path"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"

	"bridgespan/core/acl"
	"bridgespan/tree"
)

// Stage writes a new file in as few round trips as the protocol library allows.
// The server is told to flush it at once: it flushes what is open alone.
func (t *Tree) Stage(ctx context.Context, name string, r io.Reader, options tree.PutOptions) (tree.Entry, error) {
	share, wire, err := t.begin(ctx, "stage", name)
	if err != nil {
		return tree.Entry{}, err
	}
	lasting, release := linger(ctx)
	defer release()
	share = share.WithContext(lasting)
	f, err := share.OpenFile(wire, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
	if err != nil {
		return tree.Entry{}, pathError("stage", name, err)
	}
	n, err := tree.Gather(ctx, f, r, options)
	if err == nil {
		err = f.Sync()
	}
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	var entry tree.Entry
	if err == nil {
		entry, err = staged(share, wire, name, options.Meta)
	}
	if err == nil && entry.Size != n {
		err = fmt.Errorf("%w: %d of %d bytes", tree.ErrTorn, entry.Size, n)
	}
	if err != nil {
		t.discard(wire)
	}
	return entry, pathError("stage", name, err)
}

// Flush has nothing to do: what was staged was flushed then.
func (t *Tree) Flush(ctx context.Context) error {
	_, _, err := t.begin(ctx, "flush", ".")
	return err
}

// staged sets what goes with a new file, and looks at what came of it.
func staged(share *smb2.Share, wire, name string, meta tree.Meta) (e tree.Entry, err error) {
	if !meta.Descriptor.IsZero() {
		if err := setDescriptor(share, wire, meta.Descriptor, descriptorParts); err != nil {
			return e, err
		}
	}
	if !meta.Modified.IsZero() {
		if err := share.Chtimes(wire, time.Now(), meta.Modified); err != nil {
			return e, err
		}
	}
	if meta.Attributes != nil && *meta.Attributes&tree.ReadOnly != 0 {
		if err := share.Chmod(wire, 0o444); err != nil {
			return e, err
		}
	}
	info, err := share.Stat(wire)
	if err != nil {
		return e, err
	}
	raw, err := share.SecurityInfoRaw(wire, descriptorParts)
	if err != nil {
		return e, err
	}
	e = toEntry(info, path.Base(name))
	e.Descriptor, err = acl.FromBinary(raw)
	return e, err
}
