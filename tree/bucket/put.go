package bucket

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/zeebo/blake3"

	rules "bridgespan/core/bucket"
	"bridgespan/guard"
	"bridgespan/tree"
)

// sending is how many parts of a file are on their way at a time; each is in memory meanwhile.
const sending = 4

// Put writes a file whole. A short one is sent in one request, with its hash; a longer one in parts, of which
// nobody sees anything before all are there.
func (t *Tree) Put(ctx context.Context, name string, from io.Reader, options tree.PutOptions) (tree.Entry, error) {
	key, err := t.begin(ctx, "put", name)
	if err != nil {
		return tree.Entry{}, err
	}
	u := &upload{Tree: t, name: name, key: key, from: &gathered{ctx: ctx, from: from, options: options}, options: options}
	e, err := u.run(ctx)
	return e, pathError("put", name, err)
}

// upload is a file on its way.
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
		room = u.options.Size + 1 // one more tells that there is more
	}
	first := make([]byte, room)
	n, err := u.from.fill(first)
	if err != nil && err != io.EOF {
		return tree.Entry{}, err
	}
	var info minio.UploadInfo
	if err == io.EOF {
		info, err = u.whole(ctx, first[:n])
	} else {
		info, err = u.parts(ctx, first)
	}
	if err != nil {
		return tree.Entry{}, u.explained(err)
	}
	return u.entry(u.name, minio.ObjectInfo{Size: u.from.size, ETag: info.ETag, UserMetadata: u.meta}), nil
}

// prepare looks at what is there, and gathers what is to be said beside the file.
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
	if u.options.Replace && u.options.Meta.Descriptor.IsZero() { // it keeps its own
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

// conditions are those under which the file is put in place.
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

// explained is why a file was not put in place, as callers of a tree know it.
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

// parts sends a file in parts; what was sent is taken back when that fails.
func (u *upload) parts(ctx context.Context, first []byte) (info minio.UploadInfo, err error) {
	id, err := u.core.NewMultipartUpload(ctx, u.target.Bucket, u.key, minio.PutObjectOptions{UserMetadata: u.meta})
	if err != nil {
		return info, err
	}
	sent, err := u.send(ctx, id, first)
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

// lengthIs returns ErrAltered when the service has put together something else than was sent.
func (u *upload) lengthIs(ctx context.Context, version string) error {
	o, err := u.head(ctx, u.key)
	if err == nil && o.ETag == version && o.Size != u.from.size {
		err = errors.Join(fmt.Errorf("%w: %d bytes of %d", tree.ErrAltered, o.Size, u.from.size), u.remove(ctx, u.key))
	}
	return err
}

// send sends the parts of a file, several at a time, while the next are read.
func (u *upload) send(ctx context.Context, id string, first []byte) ([]minio.CompletePart, error) {
	group, run := guard.WithContext(ctx)
	group.SetLimit(sending)
	var sent []*minio.CompletePart
	room := make(chan []byte, sending+1) // buffers that are used again
	part, last := first, false
	for number := 1; len(part) > 0 && run.Err() == nil; number++ {
		if number > rules.MostParts {
			return nil, errors.Join(tree.ErrUnsupported, group.Wait())
		}
		done, body := &minio.CompletePart{PartNumber: number}, part // part is another one when this is sent
		sent = append(sent, done)
		group.Go(func() error {
			p, err := u.core.PutObjectPart(run, u.target.Bucket, u.key, id, number, bytes.NewReader(body), int64(len(body)), minio.PutObjectPartOptions{})
			done.ETag = p.ETag
			room <- body[:cap(body)]
			return err
		})
		if last {
			break
		}
		var next []byte
		select {
		case next = <-room:
		default:
			next = make([]byte, cap(first))
		}
		n, err := u.from.fill(next)
		if last = err == io.EOF; err != nil && !last {
			return nil, errors.Join(err, ignoreCancel(group.Wait()))
		}
		part = next[:n]
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

// ignoreCancel is an error that is not only the consequence of another one.
func ignoreCancel(err error) error {
	if errors.Is(err, context.Canceled) {
		return nil
	}
	return err
}

// gathered is content as it is read, in full pieces, until ctx ends.
type gathered struct {
	ctx     context.Context
	from    io.Reader
	options tree.PutOptions
	size    int64
}

// fill reads as much as there is room for. It returns io.EOF when that was the last.
func (g *gathered) fill(p []byte) (n int, err error) {
	for n < len(p) && err == nil {
		if err = g.ctx.Err(); err != nil {
			return n, err
		}
		var k int
		k, err = g.from.Read(p[n:min(len(p), n+(1<<20))])
		n += k
	}
	g.size += int64(n)
	return n, err
}

// check returns ErrTorn when the content was not as long as was said.
func (g *gathered) check() error {
	if g.options.SizeKnown && g.size != g.options.Size {
		return fmt.Errorf("%w: %d of %d bytes", tree.ErrTorn, g.size, g.options.Size)
	}
	return nil
}
