package demo

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"sync/atomic"

	"bridgespan/guard"
	"bridgespan/standin/fileserver"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// writers is how many files are written side by side to one server.
const writers = 3

// fill writes a server's shares over SMB, as its administrator, so that
// permissions are inherited as they are in real life. It reports bytes as they
// are written.
func fill(ctx context.Context, s server, running *fileserver.Server, password string, known sids, size Size, written *atomic.Int64) error {
	target := smb.Target{Address: running.HostPort(), Account: administrator, Password: password}
	if !s.alone {
		target.Domain = domainName
	}
	session, err := smb.Dial(ctx, target)
	if err != nil {
		return err
	}
	defer session.Close()
	for _, share := range s.shares {
		t, err := session.Tree(ctx, share.Name, "")
		if err != nil {
			return err
		}
		if err := fillShare(ctx, s, t, share.Name, known, size, written); err != nil {
			return fmt.Errorf("%s/%s: %w", s.name, share.Name, err)
		}
		if err := t.Close(); err != nil {
			return err
		}
	}
	return nil
}

func fillShare(ctx context.Context, s server, t tree.Tree, share string, known sids, size Size, written *atomic.Int64) error {
	top, err := s.descriptor(share, known)
	if err != nil {
		return err
	}
	if err := t.Apply(ctx, ".", tree.Meta{Descriptor: top}); err != nil {
		return err
	}
	files := filesOf(share, size)
	if s.name == "sedge" && share == "education" {
		files = files[:len(files)/2] // the old copy
	}
	if err := makeFolders(ctx, t, share, known, files); err != nil {
		return err
	}
	return writeFiles(ctx, t, files, written)
}

// makeFolders makes every folder, and sets the permissions of those that have
// their own before anything is written into them.
func makeFolders(ctx context.Context, t tree.Tree, share string, known sids, files []file) error {
	for folder, rights := range restricted[share] {
		if !slices.ContainsFunc(files, func(f file) bool { return path.Dir(f.path) == folder }) {
			continue
		}
		if err := tree.MkdirAll(ctx, t, folder); err != nil {
			return err
		}
		d, err := protected(rights, known)
		if err != nil {
			return err
		}
		if err := t.Apply(ctx, folder, tree.Meta{Descriptor: d}); err != nil {
			return err
		}
	}
	made := map[string]bool{}
	for _, f := range files {
		folder := path.Dir(f.path)
		if made[folder] {
			continue
		}
		made[folder] = true
		if err := tree.MkdirAll(ctx, t, folder); err != nil {
			return err
		}
	}
	return nil
}

// write writes a file where it was made, and moves it from there.
func write(ctx context.Context, t tree.Tree, f file, options tree.PutOptions) error {
	if f.madeAs == "" {
		_, err := t.Put(ctx, f.path, f.content(), options)
		return err
	}
	if _, err := t.Put(ctx, f.madeAs, f.content(), options); err != nil {
		return err
	}
	return t.Rename(ctx, f.madeAs, f.path, true)
}

func writeFiles(ctx context.Context, t tree.Tree, files []file, written *atomic.Int64) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	work := make(chan file)
	var group guard.WaitGroup
	for range writers {
		group.Go(func() {
			for f := range work {
				options := tree.PutOptions{Replace: true, Size: f.size, SizeKnown: true, Meta: tree.Meta{Modified: f.modified}}
				if err := write(ctx, t, f, options); err != nil {
					cancel(err)
					return
				}
				written.Add(f.size)
			}
		})
	}
	for _, f := range files {
		select {
		case work <- f:
		case <-ctx.Done():
		}
	}
	close(work)
	group.Wait()
	if cause := context.Cause(ctx); cause != nil && !errors.Is(cause, context.Canceled) {
		return cause
	}
	return ctx.Err()
}
