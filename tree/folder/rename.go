package folder

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"

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
	if tree.Reserved(from) && !tree.Reserved(to) {
		if err := t.asOthers(from, to); err != nil {
			return classify("rename", from, err)
		}
	}
	// First as if nothing were there: what comes there meanwhile must not be lost.
	err := t.renameAt(from, to, unix.RENAME_NOREPLACE)
	if !errors.Is(err, unix.EEXIST) && !notOffered(err) {
		return renameError(to, err)
	}
	source, err := t.lstat(from)
	if err != nil {
		return classify("rename", from, err)
	}
	target, err := t.lstat(to)
	taken := err == nil && (source.Ino != target.Ino || source.Dev != target.Dev)
	if taken && (!replace || !isFile(&source) || !isFile(&target)) {
		return tree.PathError("rename", to, fs.ErrExist)
	}
	return renameError(to, t.root.Rename(from, to))
}

func isFile(st *unix.Stat_t) bool { return st.Mode&unix.S_IFMT == unix.S_IFREG }

// Exchange lets two files change places at once.
func (t *Tree) Exchange(ctx context.Context, a, b string) error {
	for _, name := range []string{a, b} {
		if err := begin(ctx, "exchange", name); err != nil {
			return err
		}
		st, err := t.lstat(name)
		if err != nil {
			return classify("exchange", name, err)
		}
		if !isFile(&st) {
			return tree.PathError("exchange", name, tree.ErrKind)
		}
	}
	if tree.Reserved(a) && !tree.Reserved(b) {
		if err := t.asOthers(a, b); err != nil {
			return classify("exchange", a, err)
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
	return t.in(from, func(above int, last string) error {
		return t.in(to, func(below int, next string) error {
			return unix.Renameat2(above, last, below, next, flags)
		})
	})
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
