package bucket

import (
	"bytes"
	"context"
	"crypto/md5"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/minio/minio-go/v7"

	rules "bridgespan/core/bucket"
	"bridgespan/guard"
	"bridgespan/tree"
)

// parts sends a file in parts. After a failure that may pass, the upload stays open for the next try, else it is
// aborted. release frees the memory of the first part.
func (u *upload) parts(ctx context.Context, first []byte, release func(unused bool)) (info minio.UploadInfo, err error) {
	if err := u.open(ctx); err != nil {
		release(true)
		return info, err
	}
	sent, err := u.send(ctx, first, release)
	if err == nil {
		err = u.from.check()
	}
	if err == nil {
		o := u.conditions()
		o.UserMetadata = nil
		if info, err = u.core.CompleteMultipartUpload(ctx, u.target.Bucket, u.key, u.id, sent, o); err == nil {
			u.forgetNote(ctx)
			return info, u.lengthIs(ctx, info.ETag)
		}
	}
	if u.mayResume(ctx, err) {
		return info, err
	}
	return info, errors.Join(err, u.abort(ctx))
}

// mayResume reports whether the next try may continue an upload that failed: its process ends, or one of the ends
// was away.
func (u *upload) mayResume(ctx context.Context, err error) bool {
	switch {
	case u.note == "":
		return false
	case ctx.Err() != nil:
		return true
	case u.from.failed != nil:
		return errors.Is(u.from.failed, tree.ErrUnreachable)
	}
	return errors.Is(classified(err), tree.ErrUnreachable)
}

// abort aborts the upload, also when ctx has ended.
func (u *upload) abort(ctx context.Context) error {
	lasting, cancel := context.WithTimeout(context.WithoutCancel(ctx), connecting)
	defer cancel()
	if err := u.core.AbortMultipartUpload(lasting, u.target.Bucket, u.key, u.id); err != nil && !uploadGone(err) {
		return fmt.Errorf("the upload stays open, and takes space: %w", err)
	}
	u.forgetNote(ctx)
	return nil
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
func (u *upload) send(ctx context.Context, part []byte, release func(unused bool)) ([]minio.CompletePart, error) {
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
			done.ETag, err = u.sendPart(gctx, number, body)
			complete = err == nil
			return err
		})
		u.renewNote(gctx)
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

// sendPart sends one part, unless an interrupted try has sent the same bytes.
func (u *upload) sendPart(ctx context.Context, number int, body []byte) (etag string, err error) {
	if p, ok := u.received[number]; ok {
		sum := md5.Sum(body) // the ETag of a part (S3 API reference, "UploadPart"); another one is sent again
		if etag := strings.Trim(p.ETag, `"`); p.Size == int64(len(body)) && etag == hex.EncodeToString(sum[:]) {
			return etag, nil
		}
		if u.seals {
			return "", errOtherPart
		}
	}
	p, err := u.core.PutObjectPart(ctx, u.target.Bucket, u.key, u.id, number, bytes.NewReader(body), int64(len(body)), minio.PutObjectPartOptions{})
	return p.ETag, err
}

// errOtherPart ends an upload that cannot be continued: two contents may not be encrypted with one key. The next try begins anew.
var errOtherPart = fmt.Errorf("%w: the content is not that of the interrupted upload", tree.ErrTorn)

// ignoreCancel drops an error that only follows from another one.
func ignoreCancel(err error) error {
	if errors.Is(err, context.Canceled) {
		return nil
	}
	return err
}
