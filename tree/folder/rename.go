package folder

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"

	"golang.org/x/sys/unix"

	"bridgespan/tree"
)

func (t *Tree) Rename(ctx context.Context, from, to string, replace bool) error {
	if err := begin(ctx, "rename", from); err != nil {
		return err
	}
	if err := begin(ctx, "rename", to); err != nil {
		return err
	}
	source, err := t.root.Lstat(from)
	if err != nil {
		return classify("rename", from, err)
	}
	target, err := t.root.Lstat(to)
	taken := err == nil && !os.SameFile(source, target)
	if taken && (!replace || !source.Mode().IsRegular() || !target.Mode().IsRegular()) {
		return tree.PathError("rename", to, fs.ErrExist)
	}
	if taken {
		return renameError(to, t.root.Rename(from, to))
	}
	// Nothing was there just now: what comes there meanwhile must not be lost.
	err = t.renameAt(from, to, unix.RENAME_NOREPLACE)
	switch {
	case errors.Is(err, unix.EEXIST) && replace, errors.Is(err, unix.EEXIST) && !taken && target != nil, notOffered(err):
		err = t.root.Rename(from, to)
	case errors.Is(err, unix.EEXIST):
		return tree.PathError("rename", to, fs.ErrExist)
	}
	return renameError(to, err)
}

// Exchange lets two files change places at once.
func (t *Tree) Exchange(ctx context.Context, a, b string) error {
	for _, name := range []string{a, b} {
		if err := begin(ctx, "exchange", name); err != nil {
			return err
		}
		info, err := t.root.Lstat(name)
		if err != nil {
			return classify("exchange", name, err)
		}
		if !info.Mode().IsRegular() {
			return tree.PathError("exchange", name, tree.ErrKind)
		}
	}
	err := t.renameAt(a, b, unix.RENAME_EXCHANGE)
	if notOffered(err) {
		err = fmt.Errorf("%w: %w", tree.ErrUnsupported, err)
	}
	return classify("exchange", b, err)
}

// renameAt renames with flags of renameat2(2). Both folders are opened within
// the root, so that nothing leads out of it.
func (t *Tree) renameAt(from, to string, flags uint) error {
	above, err := t.root.Open(path.Dir(from))
	if err != nil {
		return err
	}
	defer above.Close()
	below, err := t.root.Open(path.Dir(to))
	if err != nil {
		return err
	}
	defer below.Close()
	return unix.Renameat2(int(above.Fd()), path.Base(from), int(below.Fd()), path.Base(to), flags)
}

// notOffered reports whether the kernel or the file system lacks the flags of renameat2; EINVAL can mean that too.
func notOffered(err error) bool {
	return errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.EINVAL)
}

func renameError(to string, err error) error {
	var link *os.LinkError
	if errors.As(err, &link) {
		err = link.Err
	}
	if errors.Is(err, unix.EINVAL) {
		err = fmt.Errorf("%w: a folder cannot move into itself", fs.ErrInvalid)
	}
	return classify("rename", to, err)
}
