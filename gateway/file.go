package gateway

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"os"
	"path"
	"time"

	"golang.org/x/net/webdav"

	"bridgespan/tree"
)

// info is an entry as os.FileInfo; it knows its type by its name, so that
// nothing is opened to guess it.
type info struct{ entry tree.Entry }

func (i info) Name() string       { return i.entry.Name }
func (i info) Size() int64        { return i.entry.Size }
func (i info) ModTime() time.Time { return i.entry.Modified }
func (i info) IsDir() bool        { return i.entry.Kind == tree.Folder }
func (i info) Sys() any           { return nil }

func (i info) Mode() os.FileMode {
	if i.IsDir() {
		return fs.ModeDir | 0o755
	}
	return 0o644
}

func (i info) ContentType(context.Context) (string, error) {
	if known := mime.TypeByExtension(path.Ext(i.entry.Name)); known != "" {
		return known, nil
	}
	return "application/octet-stream", nil
}

// ETag changes with content, since every change of content sets size, time or both.
func (i info) ETag(context.Context) (string, error) {
	return fmt.Sprintf(`"%x-%x"`, i.entry.Modified.UnixNano(), i.entry.Size), nil
}

// readFile is a file or folder open for reading.
type readFile struct {
	view   *view
	ctx    context.Context
	name   string
	place  place
	info   os.FileInfo
	offset int64

	content tree.Content
	stream  *tree.Reader
	listed  bool
}

func (f *readFile) Stat() (os.FileInfo, error) { return f.info, nil }
func (f *readFile) Write([]byte) (int, error)  { return 0, fs.ErrPermission }

func (f *readFile) Read(p []byte) (int, error) {
	data, err := f.next(int64(len(p)))
	return copy(p, data), err
}

// next reads on from the offset, without copying.
func (f *readFile) next(most int64) ([]byte, error) {
	if f.info.IsDir() {
		return nil, tree.ErrKind
	}
	if err := f.open(); err != nil {
		return nil, err
	}
	if f.stream == nil {
		f.stream = tree.Stream(f.ctx, f.content, f.offset)
	}
	data, err := f.stream.Next(most)
	f.offset += int64(len(data))
	return data, err
}

// copyTo hands n bytes on in large pieces, without copying them on the way.
func (f *readFile) copyTo(w io.Writer, n int64) (done int64, err error) {
	for done < n {
		data, err := f.next(n - done)
		if err == io.EOF {
			return done, nil
		}
		if err != nil {
			return done, err
		}
		m, err := w.Write(data)
		done += int64(m)
		if err != nil {
			return done, err
		}
	}
	return done, nil
}

// open opens the content at the server, once.
func (f *readFile) open() (err error) {
	if f.content == nil {
		f.content, err = f.place.tree.Open(f.ctx, f.place.rest)
	}
	return f.view.note(err)
}

func (f *readFile) Seek(offset int64, whence int) (int64, error) {
	switch whence {
	case io.SeekCurrent:
		offset += f.offset
	case io.SeekEnd:
		offset += f.info.Size()
	}
	if offset < 0 {
		return 0, fs.ErrInvalid
	}
	if offset != f.offset && f.stream != nil {
		f.stream.Close()
		f.stream = nil
	}
	f.offset = offset
	return offset, nil
}

func (f *readFile) Close() error {
	if f.stream != nil {
		f.stream.Close()
	}
	if f.content != nil {
		return f.content.Close()
	}
	return nil
}

// Readdir lists a folder, whole: the WebDAV handler asks for nothing else.
func (f *readFile) Readdir(int) ([]os.FileInfo, error) {
	if f.listed {
		return nil, io.EOF
	}
	f.listed = true
	var infos []os.FileInfo
	if f.place.folder {
		for _, name := range f.place.children {
			infos = append(infos, folderInfo(name))
		}
		return infos, nil
	}
	for entry, err := range f.place.tree.List(f.ctx, f.place.rest, tree.Plain) {
		if err != nil {
			return nil, f.view.note(err)
		}
		if tree.Reserved(entry.Name) {
			continue
		}
		f.view.known[path.Join(f.name, entry.Name)] = entry
		infos = append(infos, info{entry})
	}
	return infos, nil
}

// writeFile gathers what is written and puts it in place, whole, when closed.
type writeFile struct {
	view    *view
	name    string
	pipe    *io.PipeWriter
	done    chan struct{}
	written int64
	err     error
}

// create begins to replace or make a file.
func (v *view) create(ctx context.Context, name string, p place) (webdav.File, error) {
	if entry, err := p.tree.Stat(ctx, path.Dir(p.rest)); err != nil || entry.Kind != tree.Folder {
		if err == nil || errors.Is(err, fs.ErrNotExist) {
			err = &fs.PathError{Op: "create", Path: name, Err: fs.ErrNotExist}
		}
		return nil, v.note(err)
	}
	r, w := io.Pipe()
	f := &writeFile{view: v, name: path.Clean("/" + name), pipe: w, done: make(chan struct{})}
	options := tree.PutOptions{Replace: true}
	go func() {
		defer close(f.done)
		_, f.err = p.tree.Put(ctx, p.rest, r, options)
		r.CloseWithError(f.err)
	}()
	return f, nil
}

func (f *writeFile) Write(p []byte) (int, error) {
	n, err := f.pipe.Write(p)
	f.written += int64(n)
	return n, err
}

// Close puts the file in place, unless the sender went away before the end.
func (f *writeFile) Close() error {
	delete(f.view.known, f.name)
	if err := f.view.body.err; err != nil {
		f.pipe.CloseWithError(fmt.Errorf("%w: %w", tree.ErrTorn, err))
	} else {
		f.pipe.Close()
	}
	<-f.done
	return f.view.note(f.err)
}

func (f *writeFile) Stat() (os.FileInfo, error) {
	return info{tree.Entry{Name: path.Base(f.name), Size: f.written, Modified: time.Now()}}, nil
}

func (f *writeFile) Read([]byte) (int, error)           { return 0, fs.ErrPermission }
func (f *writeFile) Seek(int64, int) (int64, error)     { return 0, fs.ErrInvalid }
func (f *writeFile) Readdir(int) ([]os.FileInfo, error) { return nil, fs.ErrInvalid }
