package bucket

import (
	"context"
	"crypto/rand"
	"io"
	"strings"

	"github.com/minio/minio-go/v7"
)

// Rights that a key needs in a bucket.
const (
	RightList   = "list objects"
	RightWrite  = "write objects"
	RightRead   = "read objects"
	RightUpload = "upload in parts"
	RightDelete = "delete objects"
)

// MissingRights returns the rights that the key lacks. Services do not report the rights of a key: each is tried, with an object and an
// upload below tryFolder that are removed again.
func (t *Tree) MissingRights(ctx context.Context) (missing []string, err error) {
	bucket, key := t.target.Bucket, t.top+tryFolder+rand.Text()
	for _, right := range []struct {
		name string
		try  func() error
	}{
		{RightList, func() error {
			_, err := t.core.ListObjectsV2(bucket, t.top, "", "", "/", 1)
			return err
		}},
		{RightWrite, func() error {
			_, err := t.core.PutObject(ctx, bucket, key, strings.NewReader("try"), 3, "", "", minio.PutObjectOptions{})
			return err
		}},
		{RightRead, func() error { return t.tryRead(ctx, key) }},
		{RightUpload, func() error {
			id, err := t.core.NewMultipartUpload(ctx, bucket, key, minio.PutObjectOptions{})
			if err == nil {
				err = t.core.AbortMultipartUpload(ctx, bucket, key, id)
			}
			return err
		}},
		{RightDelete, func() error { return t.core.RemoveObject(ctx, bucket, key, minio.RemoveObjectOptions{}) }},
	} {
		switch err := right.try(); {
		case err == nil || absent(err):
		case forbidden(err):
			missing = append(missing, right.name)
		default:
			return missing, classified(err)
		}
	}
	return missing, ctx.Err()
}

func (t *Tree) tryRead(ctx context.Context, key string) error {
	body, _, _, err := t.core.GetObject(ctx, t.target.Bucket, key, minio.GetObjectOptions{})
	if err != nil {
		return err
	}
	_, err = io.Copy(io.Discard, io.LimitReader(body, mostAnswer))
	body.Close()
	return err
}

// Retention is the default retention of a bucket in days: objects cannot be replaced for good or removed for so long. It is 0 when there
// is none, or the service does not report it.
func (t *Tree) Retention(ctx context.Context) (days int, err error) {
	_, mode, validity, unit, err := t.core.GetObjectLockConfig(ctx, t.target.Bucket)
	switch {
	case err != nil && minio.ToErrorResponse(err).StatusCode < 500:
		return 0, nil
	case err != nil:
		return 0, classified(err)
	case mode == nil || validity == nil || unit == nil:
		return 0, nil
	}
	const longest = 100 * 365
	days = int(min(*validity, longest))
	if *unit == minio.Years {
		days = min(days, 100) * 365
	}
	return days, nil
}
