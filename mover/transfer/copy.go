package transfer

import (
	"context"
	"errors"
	"path"

	"bridgespan/guard"
	"bridgespan/tree"
)

// Copy copies a file to a name at another endpoint, where nothing may be, or the older version
// of the options: [Endpoint.Stage] and [Staged.Place] in one. The folder of the name must be
// there. It returns ErrOlderChanged, and leaves what is there, when that is another version.
func Copy(ctx context.Context, from, to *Endpoint, f File, name string, o Options) (*Staged, error) {
	if to.Tree.Capabilities().WholePuts {
		return to.putWhole(ctx, from, f, name, o)
	}
	s, err := to.Stage(ctx, from, f, o)
	if err != nil {
		return nil, err
	}
	defer s.Release()
	if err := s.put(ctx, name, o.Older); err != nil {
		return nil, errors.Join(err, s.Drop(ctx))
	}
	if o.Key != "" {
		err = to.Forget(ctx, o.Key)
	}
	return s, err
}

// put places a file, in the place of an older version unless that is nil.
func (s *Staged) put(ctx context.Context, name string, older *Known) error {
	if older == nil {
		_, err := s.Place(ctx, name, false)
		return err
	}
	if ok, err := s.to.holds(ctx, name, older.Entry); err != nil || !ok {
		return orOlderChanged(err)
	}
	left, err := s.Place(ctx, name, true)
	if err != nil || left == "" {
		return err
	}
	if ok, err := s.to.holds(ctx, left, older.Entry); err != nil || !ok { // somebody was quicker: theirs goes back
		return errors.Join(orOlderChanged(err), tree.Exchange(ctx, s.to.Tree, left, name))
	}
	return s.to.Drop(ctx, left)
}

func orOlderChanged(err error) error {
	if err == nil {
		return ErrOlderChanged
	}
	return err
}

// Folder is a folder with small files right in it that is new at its destination.
type Folder struct {
	Path  string // at the source
	Name  string // at the destination; the folder above it must be there
	Meta  tree.Meta
	Files []FolderFile
}

// FolderFile is a file of a folder, with what goes with it.
type FolderFile struct {
	File
	Meta tree.Meta
}

// copiedSideBySide is how many files of a folder are copied at a time.
const copiedSideBySide = 8

// CopyFolder copies a folder with its files as one bundle, and returns the files that are in
// it. A file that could not be copied, or has changed meanwhile, is left out, and is to be
// copied alone; only an end of ctx and a server that does not answer end the whole.
func CopyFolder(ctx context.Context, from, to *Endpoint, f Folder, o Options) ([]*Bundled, error) {
	var bytes int64
	for _, one := range f.Files {
		bytes += one.Entry.Size
	}
	b, err := to.OpenBundle(ctx, bytes, nil)
	if err != nil {
		return nil, err
	}
	defer b.Close(ctx)
	group, gctx := guard.WithContext(ctx)
	group.SetLimit(copiedSideBySide)
	for _, one := range f.Files {
		options := Options{Meta: one.Meta, Detail: o.Detail, Pace: o.Pace}
		group.Go(func() error {
			_, err := b.Stage(gctx, from, one.File, path.Base(one.Path), options)
			if gctx.Err() != nil || errors.Is(err, tree.ErrUnreachable) {
				return err
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	o.Meta, o.Limiter = f.Meta, nil
	_, files, err := b.Complete(ctx, from, f.Path, o)
	if err != nil {
		return nil, err
	}
	return files, b.Place(ctx, f.Name)
}
