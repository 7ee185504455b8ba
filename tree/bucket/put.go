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
	"bridgespan/guard"
	"bridgespan/tree"
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

// Put writes a file whole: a short one with one request, and with its hash; a longer one in parts, which become
// visible together.
func (t *Tree) Put(ctx context.Context, name string, from io.Reader, options tree.PutOptions) (tree.Entry, error) {
	key, err := t.begin(ctx, "put", name)
	if err != nil {
		return tree.Entry{}, err
	}
	u := &upload{Tree: t, name: name, key: key, from: &gathered{ctx: ctx, from: from, options: options}, options: options}
	e, err := u.run(ctx)
	return e, pathError("put", name, err)
}

// upload is one call of Put.
type upload struct {
	*Tree
	name, key string
	from      *gathered
	options   tree.PutOptions
	meta      map[string]string
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
	first, release, err := u.buffer(ctx, room)
	if err != nil {
		return tree.Entry{}, err
	}
	n, err := u.from.fill(first)
	if err != nil && err != io.EOF {
		release(true)
		return tree.Entry{}, err
	}
	var info minio.UploadInfo
	if err == io.EOF {
		info, err = u.whole(ctx, first[:n])
		release(err == nil)
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
	return err
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
	sum := blake3.Sum256(content)
	u.meta[metaHash] = hex.EncodeToString(sum[:])
	return u.core.PutObject(ctx, u.target.Bucket, u.key, bytes.NewReader(content), int64(len(content)), "", "", u.conditions())
}

// parts sends a file in parts, and aborts the upload when that fails. release frees the memory of the first part.
func (u *upload) parts(ctx context.Context, first []byte, release func(unused bool)) (info minio.UploadInfo, err error) {
	id, err := u.core.NewMultipartUpload(ctx, u.target.Bucket, u.key, minio.PutObjectOptions{UserMetadata: u.meta})
	if err != nil {
		release(true)
		return info, err
	}
	sent, err := u.send(ctx, id, first, release)
	if err == nil {
		err = u.from.check()
	}
	if err == nil {
		o := u.conditions()
		o.UserMetadata = nil
		if info, err = u.core.CompleteMultipartUpload(ctx, u.target.Bucket, u.key, id, sent, o); err == nil {
			return info, u.lengthIs(ctx, info.ETag)
		}
	}
	lasting, cancel := context.WithTimeout(context.WithoutCancel(ctx), connecting)
	defer cancel()
	if abortErr := u.core.AbortMultipartUpload(lasting, u.target.Bucket, u.key, id); abortErr != nil && !absent(abortErr) {
		err = errors.Join(err, fmt.Errorf("the upload stays open, and costs room: %w", abortErr))
	}
	return info, err
}

// lengthIs returns ErrAltered, and removes the object, when it has another length than the content.
func (u *upload) lengthIs(ctx context.Context, version string) error {
	o, err := u.head(ctx, u.key)
	if err == nil && o.ETag == version && o.Size != u.from.size {
		err = errors.Join(fmt.Errorf("%w: %d bytes of %d", tree.ErrAltered, o.Size, u.from.size), u.remove(ctx, u.key))
	}
	return err
}

// send sends the parts of a file, several side by side, while it reads the next ones.
func (u *upload) send(ctx context.Context, id string, part []byte, release func(unused bool)) ([]minio.CompletePart, error) {
	group, gctx := guard.WithContext(ctx)
	group.SetLimit(sending)
	var sent []*minio.CompletePart
	each, last := int64(len(part)), false
	for number := 1; ; number++ {
		done, body, free := &minio.CompletePart{PartNumber: number}, part, release // the loop reuses the names
		sent = append(sent, done)
		group.Go(func() (err error) {
			complete := false
			defer func() { free(complete) }()
			p, err := u.core.PutObjectPart(gctx, u.target.Bucket, u.key, id, number, bytes.NewReader(body), int64(len(body)), minio.PutObjectPartOptions{})
			done.ETag, complete = p.ETag, err == nil
			return err
		})
		if last || gctx.Err() != nil {
			break
		}
		if number == rules.MostParts {
			return nil, errors.Join(tree.ErrUnsupported, group.Wait())
		}
		var err error
		if part, release, err = u.buffer(gctx, each); err != nil {
			break // the error of the failed part is returned below
		}
		n, err := u.from.fill(part)
		if last = err == io.EOF; err != nil && !last {
			release(true)
			return nil, errors.Join(err, ignoreCancel(group.Wait()))
		}
		if part = part[:n]; n == 0 {
			release(true)
			break
		}
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	parts := make([]minio.CompletePart, len(sent))
	for i, p := range sent {
		parts[i] = *p
	}
	return parts, ctx.Err()
}

// ignoreCancel drops an error that only follows from another one.
func ignoreCancel(err error) error {
	if errors.Is(err, context.Canceled) {
		return nil
	}
	return err
}

// gathered reads content until ctx ends, and counts it.
type gathered struct {
	ctx     context.Context
	from    io.Reader
	options tree.PutOptions
	size    int64
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
