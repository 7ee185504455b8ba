package seal

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"

	"bridgespan/tree"
)

// Opened counts what OpenCopy has opened.
type Opened struct {
	Files  int   `json:"files"`  // that were sealed
	Plain  int   `json:"plain"`  // that were not, and are copied
	There  int   `json:"there"`  // that were there already, with the same content
	Failed int   `json:"failed"` // that could not be opened or written
	Bytes  int64 `json:"bytes"`  // of files and plain
}

// mostKeyFile bounds the key of a folder.
const mostKeyFile = 64 << 10

// OpenCopy opens the files of a sealed folder that another client has copied into a folder of this host, with a recovery key (the text of
// its file). Names that are sealed are opened, too. No file in to is replaced. A file with the same content counts as there, so that
// an interrupted call can be repeated. Other content is a failure. Failures are reported, and the next files are opened.
func OpenCopy(ctx context.Context, from, to *os.Root, recovery string, failed func(name string, err error)) (o Opened, err error) {
	f, err := from.Open(KeyFile)
	if err != nil {
		return o, fmt.Errorf("the copy has no key: %w", err)
	}
	text, err := io.ReadAll(io.LimitReader(f, mostKeyFile))
	if err = errors.Join(err, f.Close()); err != nil {
		return o, err
	}
	key, err := Recover(text, recovery)
	if err != nil {
		return o, err
	}
	key = key.WithNames() // names that are not sealed are no names of this key, and stay as they are
	err = fs.WalkDir(from.FS(), ".", func(name string, entry fs.DirEntry, err error) error {
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil:
		case entry.IsDir() && name != "." && tree.Reserved(entry.Name()):
			return fs.SkipDir
		case !entry.Type().IsRegular():
			return nil
		default:
			err = o.one(key, from, to, name)
		}
		if err != nil {
			o.Failed++
			failed(name, err)
		}
		return nil
	})
	return o, errors.Join(err, to.RemoveAll(partial))
}

// errDifferent: a file with other content has the name.
var errDifferent = fmt.Errorf("%w: it has other content and was not replaced; choose an empty folder, or remove it", fs.ErrExist)

// one opens one file.
func (o *Opened) one(key *Key, from, to *os.Root, name string) error {
	in, err := from.Open(name)
	if err != nil {
		return err
	}
	defer in.Close()
	info, err := in.Stat()
	if err != nil {
		return err
	}
	as := name
	if opened, ok := key.Open(name); ok {
		as = opened
	}
	if !fs.ValidPath(as) {
		return fmt.Errorf("%w: the name %.80q", ErrDamaged, as)
	}
	content, sealed := key.sealedIn(in, info.Size())
	switch there, err := to.Open(as); {
	case err == nil:
		if err = errors.Join(same(there, content), there.Close()); err == nil {
			o.There++
		}
		return err
	case !errors.Is(err, fs.ErrNotExist):
		return err
	}
	if err := write(to, as, content); err != nil {
		return err
	}
	if sealed {
		o.Files++
	} else {
		o.Plain++
	}
	o.Bytes += content.Size()
	return nil
}

// sealedIn is the content of a file: what it holds, or what is sealed in it.
func (k *Key) sealedIn(in io.ReaderAt, size int64) (content *io.SectionReader, sealed bool) {
	plain := io.NewSectionReader(in, 0, size)
	length, possible := ContentSize(size)
	head := make([]byte, HeadSize)
	if !possible || full(in, head, 0) != nil {
		return plain, false
	}
	if _, err := k.OpenFile(head); err != nil {
		return plain, false
	}
	return io.NewSectionReader(k.Content(in, length), 0, length), true
}

// same returns an error unless a file has a content.
func same(there *os.File, content *io.SectionReader) error {
	info, err := there.Stat()
	if err != nil {
		return err
	}
	if !info.Mode().IsRegular() || info.Size() != content.Size() {
		return errDifferent
	}
	a, b := make([]byte, 16*ChunkSize), make([]byte, 16*ChunkSize)
	for at := int64(0); at < content.Size(); {
		n := min(int64(len(a)), content.Size()-at)
		if err := errors.Join(full(there, a[:n], at), full(content, b[:n], at)); err != nil {
			return err
		}
		if !bytes.Equal(a[:n], b[:n]) {
			return errDifferent
		}
		at += n
	}
	return nil
}

// partial is the name of a file while it is written: an interrupted file never has its final name. Names with this prefix are reserved.
const partial = ".bspan-part"

// write writes a new file.
func write(to *os.Root, name string, content io.Reader) error {
	if err := to.MkdirAll(path.Dir(name), 0o700); err != nil {
		return err
	}
	out, err := to.OpenFile(partial, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = io.CopyBuffer(struct{ io.Writer }{out}, content, make([]byte, 16*ChunkSize))
	if err = errors.Join(err, out.Close()); err != nil {
		return err
	}
	return to.Rename(partial, name)
}
