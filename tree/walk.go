package tree

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"iter"
	"path"
)

// Walk yields every entry below root with its full name, folders before what
// they hold, one folder in memory at a time. An error is yielded with the name
// of the folder or entry it belongs to; the walk goes on with the rest. When ctx ends
// before the walk does, its error is the last.
func Walk(ctx context.Context, t Tree, root string, detail Detail) iter.Seq2[Named, error] {
	return func(yield func(Named, error) bool) {
		pending := []string{root}
		for len(pending) > 0 {
			folder := pending[len(pending)-1]
			pending = pending[:len(pending)-1]
			told := false // that this folder could not be listed to its end
			for entry, err := range t.List(ctx, folder, detail) {
				told = told || err != nil && entry.Name == ""
				named := Named{Path: path.Join(folder, entry.Name), Entry: entry}
				if !yield(named, err) {
					return
				}
				if entry.Kind == Folder && entry.Name != "" {
					pending = append(pending, named.Path)
				}
			}
			if err := ctx.Err(); err != nil {
				if !told {
					yield(Named{Path: folder}, err)
				}
				return
			}
		}
	}
}

// Entries yields a folder, or file, and everything below it that is not the service's own, with names from the root of the
// tree. Entries and folders that cannot be read have Unread set. An error ends it: that of the folder itself, or of a server that does
// not answer.
func Entries(ctx context.Context, t Tree, folder string, detail Detail) iter.Seq2[Named, error] {
	return func(yield func(Named, error) bool) {
		for e, err := range (&Ordered{Tree: t, Top: folder, Detail: detail}).All(ctx) {
			e.Path = path.Join(folder, e.Path)
			if !yield(e, err) {
				return
			}
		}
	}
}

// Files yields the files of [Entries] that can be read.
func Files(ctx context.Context, t Tree, folder string, detail Detail) iter.Seq2[Named, error] {
	return func(yield func(Named, error) bool) {
		for e, err := range Entries(ctx, t, folder, detail) {
			if err == nil && (e.Unread != nil || e.Kind != File) {
				continue
			}
			if !yield(e, err) {
				return
			}
		}
	}
}

// Named is an entry with its name from the root of the tree.
type Named struct {
	Path string
	Entry
	// Unread is why it could not be read, or listed when it is a folder; an [Ordered] walk
	// goes on after it.
	Unread error
}

// MkdirAll makes a folder and the parents it lacks.
func MkdirAll(ctx context.Context, t Tree, name string) error {
	if err := CheckName("mkdir", name); err != nil || name == "." {
		return err
	}
	err := t.Mkdir(ctx, name)
	switch {
	case errors.Is(err, fs.ErrExist):
		entry, statErr := t.Stat(ctx, name)
		if statErr == nil && entry.Kind != Folder {
			return PathError("mkdir", name, ErrKind)
		}
		return statErr
	case errors.Is(err, fs.ErrNotExist):
		if err := MkdirAll(ctx, t, path.Dir(name)); err != nil {
			return err
		}
		if err := t.Mkdir(ctx, name); !errors.Is(err, fs.ErrExist) {
			return err
		}
		return nil
	}
	return err
}

// RemoveAll removes an entry and everything below it. It is no error when nothing is there.
func RemoveAll(ctx context.Context, t Tree, name string) error {
	entry, err := t.Stat(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if entry.Kind == Folder {
		var names []string
		for child, err := range t.List(ctx, name, Plain) {
			if err != nil {
				return err
			}
			names = append(names, path.Join(name, child.Name))
		}
		for _, child := range names {
			if err := RemoveAll(ctx, t, child); err != nil {
				return err
			}
		}
	}
	if name == "." {
		return nil
	}
	if err := t.Remove(ctx, name); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// ReadFile reads a file whole. For small files and tests: it holds all of it in memory.
func ReadFile(ctx context.Context, t Tree, name string) ([]byte, error) {
	content, err := t.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	defer content.Close()
	return io.ReadAll(io.NewSectionReader(content, 0, content.Entry().Size))
}
