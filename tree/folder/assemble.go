package folder

import (
	"context"
	"errors"
	"io"
	"os"
	"path"

	"golang.org/x/sys/unix"

	"bridgespan/core/chunk"
	"bridgespan/tree"
)

// Assemble makes a file of ranges of another one, which the kernel copies, or
// shares where the file system can.
func (t *Tree) Assemble(ctx context.Context, name, base string, parts []chunk.Part, content io.ReaderAt, options tree.PutOptions) (tree.Entry, error) {
	if err := begin(ctx, "assemble", name); err != nil {
		return tree.Entry{}, err
	}
	if err := begin(ctx, "assemble", base); err != nil {
		return tree.Entry{}, err
	}
	from, err := t.open(base, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return tree.Entry{}, classify("assemble", base, err)
	}
	defer from.Close()
	if st, err := statOf(int(from.Fd())); err != nil {
		return tree.Entry{}, classify("assemble", base, err)
	} else if residencyOf(int(from.Fd()), &st) == tree.Stub {
		return tree.Entry{}, tree.PathError("assemble", base, tree.ErrUnsupported)
	}
	f, err := t.open(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
	if err != nil {
		return tree.Entry{}, classify("assemble", name, err)
	}
	defer f.Close()
	st, err := t.assemble(ctx, f, from, parts, content, options)
	if err != nil {
		t.root.Remove(name)
		return tree.Entry{}, classify("assemble", name, err)
	}
	return made(path.Base(name), &st, options), nil
}

func (t *Tree) assemble(ctx context.Context, f, base *os.File, parts []chunk.Part, content io.ReaderAt, options tree.PutOptions) (st unix.Stat_t, err error) {
	lacks := tree.StreamLacking(ctx, content, parts)
	defer lacks.Close()
	for _, p := range parts {
		if err := copyPart(ctx, f, base, p, lacks); err != nil {
			return st, err
		}
	}
	if err := t.set(int(f.Fd()), options.Meta, 0); err != nil {
		return st, err
	}
	if st, err = statOf(int(f.Fd())); err == nil && options.SizeKnown && st.Size != options.Size {
		err = tree.ErrTorn
	}
	return st, err
}

// rangeAtOnce is how much the kernel copies between two looks at the context.
const rangeAtOnce = 64 << 20

func copyPart(ctx context.Context, f, base *os.File, p chunk.Part, lacks io.Reader) error {
	if p.From >= 0 {
		from, to := p.From, p.At
		for left := p.Length; left > 0; {
			if err := ctx.Err(); err != nil {
				return err
			}
			n, err := unix.CopyFileRange(int(base.Fd()), &from, int(f.Fd()), &to, int(min(left, rangeAtOnce)), 0)
			switch {
			case errors.Is(err, unix.EXDEV), errors.Is(err, unix.EINVAL), errors.Is(err, unix.ENOSYS), errors.Is(err, unix.EOPNOTSUPP):
				return copyBytes(ctx, f, io.NewSectionReader(base, from, left), to, left)
			case err != nil:
				return err
			case n == 0:
				return tree.ErrTorn // the base became shorter
			}
			left -= int64(n)
		}
		return nil
	}
	return copyBytes(ctx, f, io.LimitReader(lacks, p.Length), p.At, p.Length)
}

func copyBytes(ctx context.Context, f *os.File, content io.Reader, to, length int64) error {
	options := tree.PutOptions{Size: length, SizeKnown: true}
	_, err := tree.Gather(ctx, io.NewOffsetWriter(f, to), content, options)
	return err
}
