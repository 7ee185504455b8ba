package smb

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"time"

	"bridgespan/core/acl"
	"bridgespan/tree"
)

// Stage writes a new file in as few round trips as the protocol library allows.
// The server is told to flush it at once: it flushes what is open alone.
func (t *Tree) Stage(ctx context.Context, name string, r io.Reader, options tree.PutOptions) (tree.Entry, error) {
	return t.stageWith(ctx, name, options, func(_ *remoteShare, f *remoteFile) (int64, error) { return tree.Gather(ctx, f, r, options) })
}

// stageWith writes a new file with what write puts into it; write returns its length.
func (t *Tree) stageWith(ctx context.Context, name string, options tree.PutOptions, write func(*remoteShare, *remoteFile) (int64, error)) (tree.Entry, error) {
	share, wire, err := t.begin(ctx, "stage", name)
	if err != nil {
		return tree.Entry{}, err
	}
	lasting, release := linger(ctx)
	defer release()
	share = share.WithContext(lasting)
	if d := options.Meta.Descriptor; !d.IsZero() { // before any content comes for nothing
		if err := t.admits(ctx, share, wire, d); err != nil {
			return tree.Entry{}, pathError("stage", name, err)
		}
	}
	f, err := openStaged(share, wire, options.At)
	if err != nil {
		return tree.Entry{}, pathError("stage", name, err)
	}
	n, err := write(share, f)
	if err == nil {
		err = f.Sync()
	}
	n += options.At
	entry := tree.Entry{Name: path.Base(name), Size: n}
	whole := options.Whole(n)
	if err == nil && whole && !options.Listed {
		var info os.FileInfo
		if info, err = describe(f); err == nil {
			entry = toEntry(info, entry.Name)
		}
	}
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err == nil && whole {
		entry, err = t.staged(share, wire, entry, options)
	}
	if err == nil && entry.Size != n {
		err = fmt.Errorf("%w: %d of %d bytes", tree.ErrTorn, entry.Size, n)
	}
	if err != nil && options.At == 0 {
		t.discard(wire)
	}
	return entry, pathError("stage", name, err)
}

// openStaged opens a new file, or one of which so many bytes are there, to be written
// after them.
func openStaged(share *remoteShare, wire string, at int64) (*remoteFile, error) {
	if at == 0 {
		return share.OpenFile(wire, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o666)
	}
	f, err := share.OpenFile(wire, os.O_RDWR, 0o666)
	if err != nil {
		return nil, err
	}
	size, err := f.Seek(0, io.SeekEnd)
	if err == nil {
		err = tree.GoesOn(size, at)
	}
	if err == nil {
		err = f.Truncate(at)
	}
	if err == nil {
		_, err = f.Seek(at, io.SeekStart)
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// Flush has nothing to do: what was staged was flushed then.
func (t *Tree) Flush(ctx context.Context) error {
	_, _, err := t.begin(ctx, "flush", ".")
	return err
}

// staged sets what goes with a new file, permissions last, which may keep us out, and
// tells what came of it.
func (t *Tree) staged(share *remoteShare, wire string, e tree.Entry, options tree.PutOptions) (tree.Entry, error) {
	meta := options.Meta
	if !meta.Modified.IsZero() {
		if err := share.Chtimes(wire, time.Now(), meta.Modified); err != nil {
			return e, err
		}
	}
	readOnly := meta.Attributes != nil && *meta.Attributes&tree.ReadOnly != 0
	if readOnly {
		if err := share.Chmod(wire, 0o444); err != nil {
			return e, err
		}
	}
	var err error
	if !meta.Descriptor.IsZero() {
		err = setDescriptor(share, wire, meta.Descriptor, descriptorParts)
	}
	if err == nil && !options.Listed {
		err = t.lookAgain(share, wire, &e, meta.Modified, readOnly)
	}
	if err != nil || options.Detail == tree.Plain {
		return e, err
	}
	e.Descriptor, err = t.descriptorOf(share, wire, meta.Descriptor)
	return e, err
}

// descriptorOf finds out what a server has made of a descriptor that was sent for
// a new file. It makes the same of the same each time, and is asked once.
func (t *Tree) descriptorOf(share *remoteShare, wire string, sent acl.Descriptor) (acl.Descriptor, error) {
	if known, ok := t.shown.Get(sent); ok && !sent.IsZero() {
		return known, nil
	}
	raw, err := share.SecurityInfoRaw(wire, descriptorParts)
	if err != nil {
		return acl.Descriptor{}, err
	}
	d, err := acl.FromBinary(raw)
	if err == nil && !sent.IsZero() {
		t.shown.Add(sent, d)
	}
	return d, err
}

// lookAgain finds out what a file is like after what was set. Once a server was
// seen to keep times as they are sent ([MS-FSCC] 2.1.1: tenths of microseconds),
// it is not asked again for each file.
func (t *Tree) lookAgain(share *remoteShare, wire string, e *tree.Entry, modified time.Time, readOnly bool) error {
	sent := modified.Truncate(100 * time.Nanosecond)
	if t.keepsTimes.Load() && !readOnly {
		e.Modified = sent
		return nil
	}
	info, err := share.Stat(wire)
	if err != nil {
		return err
	}
	id := e.ID
	*e = toEntry(info, e.Name)
	e.ID = id
	if !readOnly && !modified.IsZero() && e.Modified.Equal(sent) {
		t.keepsTimes.Store(true)
	}
	return nil
}
