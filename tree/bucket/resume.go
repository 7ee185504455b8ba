package bucket

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/zeebo/blake3"

	rules "bridgespan/core/bucket"
)

// uploadFolder holds a note for each open upload, so that the next try resumes it, or [Tree.Tidy] aborts it: until
// then, the provider charges for its parts.
const uploadFolder = ".bspan/uploads/"

// Whoever sends parts renews the note from time to time. An upload whose note is older than abandoned is aborted.
const (
	noteRenewal = time.Hour
	abandoned   = 48 * time.Hour
	mostNote    = 8 << 10
)

// uploadNote is the content of a note, in JSON.
type uploadNote struct {
	Key    string `json:"key"`
	Upload string `json:"upload,omitempty"` // absent while the upload is being created
	Head   []byte `json:"head,omitempty"`   // of a sealed file
}

// open resumes the upload of an interrupted try, or creates one. Without a known length there is no resuming.
func (u *upload) open(ctx context.Context) (err error) {
	if u.id != "" {
		return nil
	}
	if u.options.Digest.Known() {
		u.keepHash(u.options.Digest)
	}
	if !u.options.SizeKnown {
		u.id, err = u.core.NewMultipartUpload(ctx, u.target.Bucket, u.key, minio.PutObjectOptions{UserMetadata: u.meta})
		return err
	}
	u.note = u.top + uploadFolder + u.fingerprint()
	n, at, err := u.readNote(ctx, u.note)
	switch {
	case absent(err):
	case err != nil:
		return err
	case n.Key == u.key && n.Upload != "" && !u.resumeSealed(n):
		if err := u.core.AbortMultipartUpload(ctx, u.target.Bucket, u.key, n.Upload); err != nil && !uploadGone(err) {
			return err
		}
	case n.Key == u.key && n.Upload != "":
		if u.received, err = u.listParts(ctx, u.key, n.Upload); err == nil {
			u.id = n.Upload
			return nil
		}
		if !uploadGone(err) {
			return err
		}
	case n.Key == u.key:
		if err := u.abortSince(ctx, n.Key, at); err != nil {
			return err
		}
	}
	return u.create(ctx)
}

// create creates an upload. The note is written before, so that no crash leaves an upload without one.
func (u *upload) create(ctx context.Context) (err error) {
	if u.seals {
		if u.file, err = u.target.Seal.NewFile(); err != nil {
			return err
		}
	}
	if err := u.writeNote(ctx); err != nil {
		return err
	}
	if u.id, err = u.core.NewMultipartUpload(ctx, u.target.Bucket, u.key, minio.PutObjectOptions{UserMetadata: u.meta}); err == nil {
		err = u.writeNote(ctx)
	}
	if err != nil && u.id != "" {
		err = errors.Join(err, u.abort(ctx))
	}
	return err
}

// fingerprint names the note of an upload: one of the same path, length and metadata continues it.
func (u *upload) fingerprint() string {
	var text bytes.Buffer
	fmt.Fprintf(&text, "%q %d", u.key, u.options.Size)
	for _, name := range slices.Sorted(maps.Keys(u.meta)) {
		fmt.Fprintf(&text, " %q %q", name, u.plainValue(name))
	}
	if u.seals {
		return u.sealedFingerprint(text.Bytes())
	}
	sum := blake3.Sum256(text.Bytes())
	return hex.EncodeToString(sum[:])
}

func (u *upload) writeNote(ctx context.Context) error {
	text, err := json.Marshal(uploadNote{Key: u.key, Upload: u.id, Head: u.sealedHead()})
	if err == nil {
		_, err = u.core.PutObject(ctx, u.target.Bucket, u.note, bytes.NewReader(text), int64(len(text)), "", "", minio.PutObjectOptions{})
	}
	u.noted = time.Now()
	return err
}

// renewNote keeps a long upload from being taken for an abandoned one.
func (u *upload) renewNote(ctx context.Context) {
	if u.note == "" || time.Since(u.noted) < noteRenewal {
		return
	}
	if err := u.writeNote(ctx); err != nil && ctx.Err() == nil {
		slog.Warn("the note of an upload cannot be renewed", "key", u.key, "error", err)
	}
}

// forgetNote removes the note, also when ctx has ended. One that stays is removed by [Tree.Tidy].
func (u *upload) forgetNote(ctx context.Context) {
	if u.note == "" {
		return
	}
	lasting, cancel := context.WithTimeout(context.WithoutCancel(ctx), connecting)
	defer cancel()
	if err := u.remove(lasting, u.note); err != nil {
		slog.Debug("the note of an upload stays", "key", u.key, "error", err)
	}
}

// readNote reads a note, and when it was written.
func (t *Tree) readNote(ctx context.Context, key string) (n uploadNote, at time.Time, err error) {
	r, o, _, err := t.core.GetObject(ctx, t.target.Bucket, key, minio.GetObjectOptions{})
	if err != nil {
		return n, at, err
	}
	defer r.Close()
	text, err := io.ReadAll(io.LimitReader(r, mostNote))
	if err == nil && json.Unmarshal(text, &n) != nil {
		n = uploadNote{} // not one of ours
	}
	return n, o.LastModified, err
}

// listParts lists the parts of an upload that the service has received, by number.
func (t *Tree) listParts(ctx context.Context, key, id string) (map[int]minio.ObjectPart, error) {
	received := map[int]minio.ObjectPart{}
	for marker := 0; ; {
		answer, err := t.core.ListObjectParts(ctx, t.target.Bucket, key, id, marker, page)
		if err != nil {
			return nil, err
		}
		for _, p := range answer.ObjectParts {
			if p.PartNumber >= 1 && p.PartNumber <= rules.MostParts {
				received[p.PartNumber] = p
			}
		}
		if !answer.IsTruncated || answer.NextPartNumberMarker <= marker || answer.NextPartNumberMarker >= rules.MostParts {
			return received, nil
		}
		marker = answer.NextPartNumberMarker
	}
}

// creating is how long creating an upload takes at most, after its note was written.
const creating = time.Minute

// abortSince aborts the uploads of a key that were created just after a moment: by a process that ended before it
// had noted their numbers.
func (t *Tree) abortSince(ctx context.Context, key string, at time.Time) error {
	answer, err := t.core.ListMultipartUploads(ctx, t.target.Bucket, key, "", "", "", page)
	if err != nil {
		return err
	}
	for _, o := range answer.Uploads {
		if o.Key != key || o.Initiated.Before(at.Add(-time.Second)) || o.Initiated.After(at.Add(creating)) {
			continue
		}
		if err := t.core.AbortMultipartUpload(ctx, t.target.Bucket, key, o.UploadID); err != nil && !uploadGone(err) {
			return err
		}
	}
	return nil
}

// Tidy aborts uploads that nobody has continued for two days.
func (t *Tree) Tidy(ctx context.Context) error { return t.tidy(ctx, abandoned) }

func (t *Tree) tidy(ctx context.Context, least time.Duration) error {
	now := time.Now().Add(time.Duration(t.wire.clock.Load()))
	for o := range t.core.ListObjectsIter(ofListing(ctx), t.target.Bucket, minio.ListObjectsOptions{Prefix: t.top + uploadFolder, Recursive: true}) {
		if o.Err != nil {
			return pathError("tidy", ".", o.Err)
		}
		if now.Sub(o.LastModified) < least {
			continue
		}
		if err := t.abandon(ctx, o.Key); err != nil {
			return pathError("tidy", strings.TrimPrefix(o.Key, t.top), err)
		}
	}
	return ctx.Err()
}

// abandon aborts the upload of a note, and removes the note.
func (t *Tree) abandon(ctx context.Context, note string) error {
	n, at, err := t.readNote(ctx, note)
	switch {
	case absent(err):
		return nil
	case err != nil:
		return err
	case !strings.HasPrefix(n.Key, t.top): // not one of ours
	case n.Upload == "":
		err = t.abortSince(ctx, n.Key, at)
	default:
		err = t.core.AbortMultipartUpload(ctx, t.target.Bucket, n.Key, n.Upload)
	}
	if err != nil && !uploadGone(err) {
		return err
	}
	return t.remove(ctx, note)
}
