package host_test

import (
	"bytes"
	"context"
	"errors"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"

	"bridgespan/core/chunk"
	"bridgespan/mover/edge"
	"bridgespan/mover/host"
	"bridgespan/mover/transfer"
	"bridgespan/standin/cloud"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/bucket"
	"bridgespan/tree/bucket/seal"
	"bridgespan/tree/remote"

	"github.com/zeebo/blake3"
)

// uploading is a mover with a folder of which files are uploaded to a bucket.
type uploading struct {
	t      *testing.T
	dir    string
	sky    *standintest.Sky
	target bucket.Target
	client edge.Client
	from   *unread
	to     *bucket.Tree
}

// unread is a folder at a mover, the contents of which may not be read from there.
type unread struct {
	tree.Tree
	reads atomic.Int64
}

func (u *unread) Open(ctx context.Context, name string) (tree.Content, error) {
	u.reads.Add(1)
	return u.Tree.Open(ctx, name)
}
func (u *unread) OpenExpected(ctx context.Context, name string, e tree.Entry) (tree.Content, error) {
	u.reads.Add(1)
	return tree.OpenExpected(ctx, u.Tree, name, e)
}
func (u *unread) Upload(ctx context.Context, up *tree.Upload) (tree.Uploaded, error) {
	return tree.UploadFrom(ctx, u.Tree, up)
}

func startUploading(t *testing.T, key *seal.Key) *uploading {
	t.Helper()
	u := &uploading{t: t, dir: t.TempDir(), sky: standintest.Cloud(t)}
	m, stop := run(t, host.Config{Listen: "127.0.0.1:0", State: t.TempDir(), Folders: []string{"garden=" + u.dir}})
	t.Cleanup(stop)
	h, _, err := remote.Dial(t.Context(), targetOf(t, m))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { h.Close() })
	if err := os.Mkdir(filepath.Join(u.dir, "beds"), 0o755); err != nil {
		t.Fatal(err)
	}
	garden, err := h.Tree(t.Context(), "garden", "beds")
	if err != nil {
		t.Fatal(err)
	}
	u.from = &unread{Tree: garden}
	u.target = u.sky.Bucket(t)
	u.target.Seal = key
	u.to = standintest.OpenBucket(t, u.target)
	u.client = edge.Client{Caller: h, Folder: "garden", Sub: "beds"}
	return u
}

// set lets the mover upload.
func (u *uploading) set() {
	u.t.Helper()
	b := edge.Bucket{Endpoint: u.target.Endpoint, Plain: true, Region: u.target.Region, Bucket: u.target.Bucket, PathStyle: true, Key: u.target.Key, Secret: u.target.Secret}
	if u.target.Seal != nil {
		b.SealWith(u.target.Seal)
	}
	if _, err := u.client.Set(u.t.Context(), edge.Settings{Bucket: b, Whole: true}); err != nil {
		u.t.Fatal(err)
	}
}

// file makes a file at the mover.
func (u *uploading) file(name string, size int) ([]byte, transfer.File) {
	u.t.Helper()
	content := make([]byte, size)
	_, _ = rand.NewChaCha8([32]byte{byte(size)}).Read(content)
	if err := os.WriteFile(filepath.Join(u.dir, "beds", name), content, 0o644); err != nil {
		u.t.Fatal(err)
	}
	e, err := u.from.Stat(u.t.Context(), name)
	if err != nil {
		u.t.Fatal(err)
	}
	return content, transfer.File{Path: name, Entry: e}
}

func (u *uploading) copy(ctx context.Context, f transfer.File, o transfer.Options) (*transfer.Staged, error) {
	return transfer.Copy(ctx, &transfer.Endpoint{Tree: u.from}, &transfer.Endpoint{Tree: u.to}, f, f.Path, o)
}

// A mover uploads files by itself: what goes through its caller is how many bytes may be sent.
func TestUpload(t *testing.T) {
	key, err := seal.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	for name, key := range map[string]*seal.Key{"plain": nil, "sealed": key, "with names": key.WithNames()} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			u := startUploading(t, key)
			u.set()
			for name, size := range map[string]int{"empty": 0, "small": 3000, "one grant": 1 << 20, "two grants": 1<<20 + 1, "parts": 21<<20 + 5} {
				content, f := u.file(name, size)
				var paced int64
				s, err := u.copy(t.Context(), f, transfer.Options{Meta: tree.Meta{Modified: f.Entry.Modified}, Pace: func(_ context.Context, n int) error { paced += int64(n); return nil }})
				if err != nil {
					t.Errorf("%s: %v", name, err)
					continue
				}
				if s.Digest != chunk.Digest(blake3.Sum256(content)) || paced != int64(size) {
					t.Errorf("%s: digest %s, %d bytes were paced", name, s.Digest, paced)
				}
				if got, err := tree.ReadFile(t.Context(), u.to, name); err != nil || !bytes.Equal(got, content) {
					t.Errorf("%s: %d bytes are there, %v", name, len(got), err)
				}
				if e, err := u.to.Stat(t.Context(), name); err != nil || e.Version != s.Entry.Version || e.Digest != s.Digest || !e.Modified.Equal(f.Entry.Modified) {
					t.Errorf("%s: %+v is there, %+v was told, %v", name, e, s.Entry, err)
				}
			}
			if n := u.from.reads.Load(); n > 0 {
				t.Errorf("%d files passed through the caller", n)
			}
			if s, err := u.client.Look(t.Context()); err != nil || s.Edge || !s.Ready || s.Uploaded != 5 || s.UploadedBytes < 22<<20 {
				t.Errorf("the mover says %+v, %v", s, err)
			}
		})
	}
}

// What cannot be uploaded is told as it would be to who writes by itself.
func TestUploadRefused(t *testing.T) {
	u := startUploading(t, nil)
	u.set()
	_, f := u.file("fern", 2<<20)
	if _, err := u.to.Put(t.Context(), "fern", bytes.NewReader(nil), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	other := f
	other.Entry.Modified = other.Entry.Modified.Add(-1e9)
	gone := f
	gone.Path = "reed"
	for name, c := range map[string]struct {
		file  transfer.File
		older *transfer.Known
		want  error
	}{
		"taken":    {f, nil, fs.ErrExist},
		"version":  {f, &transfer.Known{Path: "fern", Entry: tree.Entry{Version: "another"}}, transfer.ErrOlderChanged},
		"changed":  {other, nil, tree.ErrChanged},
		"gone":     {gone, nil, tree.ErrChanged},
		"bad name": {transfer.File{Path: "../fern", Entry: f.Entry}, nil, fs.ErrInvalid},
	} {
		if _, err := u.copy(t.Context(), c.file, transfer.Options{Older: c.older}); !errors.Is(err, c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if n := u.from.reads.Load(); n > 0 {
		t.Errorf("%d files passed through the caller", n)
	}
}

// Where the mover has not opened the bucket, files pass through the caller, and their bytes are paced once.
func TestUploadThroughCaller(t *testing.T) {
	u := startUploading(t, nil)
	content, f := u.file("fern", 3<<20)
	var paced int64
	_, err := u.copy(t.Context(), f, transfer.Options{Pace: func(_ context.Context, n int) error { paced += int64(n); return nil }})
	if err != nil || paced != int64(len(content)) || u.from.reads.Load() != 1 {
		t.Errorf("%d bytes were paced, %d files were read, %v", paced, u.from.reads.Load(), err)
	}
	if got, err := tree.ReadFile(t.Context(), u.to, "fern"); err != nil || !bytes.Equal(got, content) {
		t.Errorf("%d bytes are there, %v", len(got), err)
	}
	elsewhere := u.sky.Bucket(t)
	u.set()
	u.to = standintest.OpenBucket(t, elsewhere)
	if _, err := u.copy(t.Context(), f, transfer.Options{}); err != nil || u.from.reads.Load() != 2 {
		t.Errorf("to another bucket: %d files were read, %v", u.from.reads.Load(), err)
	}
	if _, err := tree.ReadFile(t.Context(), u.to, "fern"); err != nil {
		t.Error(err)
	}
}

// An upload that is ended continues at its last part. A bucket that does not answer is told from a mover that does not.
func TestUploadInterrupted(t *testing.T) {
	u := startUploading(t, nil)
	u.set()
	content, f := u.file("fern", 40<<20)
	f.Digest = chunk.Digest(blake3.Sum256(content))
	meta := tree.Meta{Modified: f.Entry.Modified}
	ctx, cancel := context.WithCancel(t.Context())
	var paced int64
	_, err := u.copy(ctx, f, transfer.Options{Meta: meta, Pace: func(ctx context.Context, n int) error {
		if paced += int64(n); paced < 25<<20 {
			return nil
		}
		cancel()
		<-ctx.Done()
		return ctx.Err()
	}})
	if !errors.Is(err, context.Canceled) {
		t.Fatalf("ended: %v", err)
	}
	u.sky.Dials().Turn(cloud.Settings{Outage: true})
	if _, err := u.copy(t.Context(), f, transfer.Options{Meta: meta}); !errors.Is(err, tree.ErrUnreachable) {
		t.Errorf("while the bucket is away: %v", err)
	}
	if _, err := u.from.Stat(t.Context(), "fern"); err != nil {
		t.Errorf("the mover, meanwhile: %v", err)
	}
	u.sky.Dials().Turn(cloud.Settings{})
	if _, err := u.copy(t.Context(), f, transfer.Options{Meta: meta}); err != nil {
		t.Fatal(err)
	}
	if got, err := tree.ReadFile(t.Context(), u.to, "fern"); err != nil || !bytes.Equal(got, content) {
		t.Errorf("%d bytes are there, %v", len(got), err)
	}
}
