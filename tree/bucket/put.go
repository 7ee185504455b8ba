package bucket

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"sync"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/zeebo/blake3"

	rules "bridgespan/core/bucket"
	"bridgespan/core/chunk"
	"bridgespan/tree"
	"bridgespan/tree/bucket/seal"
)

// sending is the number of parts of a file that are sent side by side. All uploads of a tree together hold at
// most mostBuffered bytes in memory, or one part if that is larger.
const (
	sending      = 4
	mostBuffered = 128 << 20
)

// buffers holds unused buffers of rules.UsualPart bytes.
var buffers sync.Pool

// buffer returns a buffer for a part, as soon as there is memory for it. The caller must call release, with true
// when the buffer is unused: a failed request may still read from it.
func (t *Tree) buffer(ctx context.Context, size int64) (b []byte, release func(unused bool), err error) {
	weight := min(size, mostBuffered)
	if err := t.memory.Acquire(ctx, weight); err != nil {
		return nil, nil, err
	}
	if size != rules.UsualPart {
		return make([]byte, size), func(bool) { t.memory.Release(weight) }, nil
	}
	used, ok := buffers.Get().(*[rules.UsualPart]byte)
	if !ok {
		used = new([rules.UsualPart]byte)
	}
	return used[:], func(unused bool) {
		if unused {
			buffers.Put(used)
		}
		t.memory.Release(weight)
	}, nil
}

// Put writes a file whole: a short one with one request; a longer one in parts, which become visible together. Its hash is
// part of the metadata, which of a longer one is sent before the content: the options must tell it.
func (t *Tree) Put(ctx context.Context, name string, from io.Reader, options tree.PutOptions) (tree.Entry, error) {
	key, err := t.begin(ctx, "put", name)
	if err != nil {
		return tree.Entry{}, err
	}
	u := &upload{Tree: t, name: name, key: key, from: &gathered{ctx: ctx, from: from, options: options}, options: options}
	if t.target.Seal != nil && !seal.Plain(name) {
		u.seals = true
		u.options.Size = seal.Size(options.Size)
		u.from.options.Size = u.options.Size
	}
	e, err := u.run(ctx)
	return e, pathError("put", name, err)
}

// upload is one call of Put.
type upload struct {
	*Tree
	name, key string
	from      *gathered
	options   tree.PutOptions // with the length of the object
	meta      map[string]string

	// Of a file that is sealed: its key, and its content as it is sent.
	seals  bool
	file   *seal.File
	sealed *seal.Reader

	// Of an upload in parts: its number, what an interrupted try has sent, and the key of its note.
	id       string
	received map[int]minio.ObjectPart
	note     string
	noted    time.Time
}

func (u *upload) run(ctx context.Context) (tree.Entry, error) {
	if err := u.prepare(ctx); err != nil {
		return tree.Entry{}, err
	}
	each, err := rules.PartSize(u.options.Size)
	if err != nil {
		return tree.Entry{}, fmt.Errorf("%w: %w", tree.ErrUnsupported, err)
	}
	room := each
	if u.options.SizeKnown && u.options.Size < each {
		room = u.options.Size + 1 // one byte more, to detect content that is too long
	}
	if err := u.seal(ctx, each); err != nil {
		return tree.Entry{}, err
	}
	first, release, err := u.buffer(ctx, room)
	if err != nil {
		return tree.Entry{}, errors.Join(err, u.close(ctx))
	}
	n, err := u.from.fill(first)
	if err != nil && err != io.EOF {
		release(true)
		return tree.Entry{}, errors.Join(err, u.close(ctx))
	}
	var info minio.UploadInfo
	if err == io.EOF {
		info, err = u.whole(ctx, first[:n])
		release(err == nil)
		if err != nil {
			err = errors.Join(err, u.close(ctx))
		}
	} else {
		info, err = u.parts(ctx, first, release)
	}
	if err != nil {
		return tree.Entry{}, u.explained(err)
	}
	return u.entry(u.name, minio.ObjectInfo{Size: u.from.size, ETag: info.ETag, UserMetadata: u.meta}), nil
}

// prepare checks the path, and collects the metadata.
func (u *upload) prepare(ctx context.Context) error {
	if u.name == "." {
		return tree.ErrKind
	}
	if is, err := u.isFolder(ctx, u.name); err != nil {
		return err
	} else if is {
		return tree.ErrKind
	}
	var kept map[string]string
	if u.options.Replace && u.options.Meta.Descriptor.IsZero() { // a replaced file keeps its descriptor
		o, err := u.head(ctx, u.key)
		if err != nil && !absent(err) {
			return err
		}
		kept = map[string]string{}
		for _, name := range []string{metaDescriptor, metaDescriptorAt} {
			if value := o.UserMetadata[name]; value != "" {
				kept[name] = value
			}
		}
	}
	meta := u.options.Meta
	if meta.Modified.IsZero() {
		meta.Modified = time.Now()
	}
	var err error
	u.meta, err = u.changed(ctx, kept, meta)
	if u.seals {
		u.meta[metaSealed] = sealedAge
	}
	return err
}

// keepHash puts the hash of the content into the metadata.
func (u *upload) keepHash(d chunk.Digest) {
	u.meta[metaHash] = u.writeValue(hashValue, d[:], hex.EncodeToString)
}

// digest is the hash of a content that was sent in one request.
func (u *upload) digest(content []byte) chunk.Digest {
	if u.sealed != nil {
		return u.sealed.Digest()
	}
	return blake3.Sum256(content)
}

// conditions are the preconditions of the write.
func (u *upload) conditions() (o minio.PutObjectOptions) {
	o.UserMetadata, o.DisableMultipart = u.meta, true
	switch {
	case u.options.Version != "":
		o.SetMatchETag(u.options.Version)
	case !u.options.Replace:
		o.SetMatchETagExcept("*")
	}
	return o
}

// explained converts a failed precondition to the error of a tree.
func (u *upload) explained(err error) error {
	switch {
	case u.options.Version != "" && (refusedByCondition(err) || absent(err)):
		return tree.ErrVersion
	case refusedByCondition(err):
		return fs.ErrExist
	}
	return err
}

// whole sends a file in one request.
func (u *upload) whole(ctx context.Context, content []byte) (minio.UploadInfo, error) {
	if err := u.from.check(); err != nil {
		return minio.UploadInfo{}, err
	}
	u.keepHash(u.digest(content))
	return u.core.PutObject(ctx, u.target.Bucket, u.key, bytes.NewReader(content), int64(len(content)), "", "", u.conditions())
}

// gathered reads content until ctx ends, and counts it.
type gathered struct {
	ctx     context.Context
	from    io.Reader
	options tree.PutOptions
	size    int64
	failed  error // of the reader
}

// fill fills p. It returns io.EOF with the last bytes, and ErrTorn when there are more bytes than options.Size.
func (g *gathered) fill(p []byte) (n int, err error) {
	for n < len(p) && err == nil {
		if err = g.ctx.Err(); err != nil {
			return n, err
		}
		var k int
		k, err = g.from.Read(p[n:min(len(p), n+(1<<20))])
		n += k
	}
	if err != nil && err != io.EOF {
		g.failed = err
	}
	if g.size += int64(n); g.options.SizeKnown && g.size > g.options.Size {
		return n, g.check()
	}
	return n, err
}

// check returns ErrTorn when the content had another length than options.Size.
func (g *gathered) check() error {
	if g.options.SizeKnown && g.size != g.options.Size {
		return fmt.Errorf("%w: %d of %d bytes", tree.ErrTorn, g.size, g.options.Size)
	}
	return nil
}
