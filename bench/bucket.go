package main

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"bridgespan/guard"
	"bridgespan/mover/edge"
	"bridgespan/mover/transfer"
	"bridgespan/standin/cloud"
	"bridgespan/tree"
	"bridgespan/tree/bucket"
	"bridgespan/tree/bucket/seal"
	"bridgespan/tree/folder"
	"bridgespan/tree/memory"
)

// Buckets are measured on a simulated cloud on the same machine. The reference is the client library
// alone.
const (
	bucketLarge  = 1 << 30
	bucketFiles  = 400
	bucketNames  = 20_000
	bucketFar    = 20 * time.Millisecond // delay of a distant service
	bucketClose  = time.Millisecond      // delay of one in the same building
	bucketWide   = 16
	bucketRegion = "coast-1"
)

// bucketed is a bucket, opened as a tree and by the client library.
type bucketed struct {
	tree   *bucket.Tree
	client *minio.Core
	name   string
	dir    string
	target bucket.Target
}

func newBucketed(ctx context.Context, after *endings, delay time.Duration, key *seal.Key) (*bucketed, error) {
	dir, err := workFolder()
	if err != nil {
		return nil, err
	}
	access := cloud.Key{ID: account, Secret: password, Account: account, Rights: cloud.AllRights}
	c, err := cloud.Open(cloud.Config{Dir: filepath.Join(dir, "cloud"), Keys: []cloud.Key{access}, Regions: []cloud.Region{{Name: bucketRegion, Delay: delay}}})
	if err != nil {
		return nil, err
	}
	after.do(func() { c.Close() })
	server := httptest.NewServer(c.Region(bucketRegion))
	after.do(server.Close)
	b := &bucketed{name: "bench-files", dir: dir}
	endpoint := strings.TrimPrefix(server.URL, "http://")
	if b.client, err = minio.NewCore(endpoint, &minio.Options{Creds: credentials.NewStaticV4(access.ID, access.Secret, ""), Region: bucketRegion, BucketLookup: minio.BucketLookupPath}); err != nil {
		return nil, err
	}
	if err := b.client.MakeBucket(ctx, b.name, minio.MakeBucketOptions{Region: bucketRegion}); err != nil {
		return nil, err
	}
	b.target = bucket.Target{Endpoint: endpoint, Plain: true, Region: bucketRegion, Bucket: b.name, PathStyle: true, Key: access.ID, Secret: access.Secret, Seal: key}
	b.tree, err = bucket.Dial(ctx, b.target)
	return b, err
}

// bucketUpload transfers a file of 1 GiB from a folder to a bucket as a lane does, with its hash, compared with the client library's own
// multipart upload.
// bucketSealed seals it on the way.
var (
	bucketUpload = benchmark{name: "bucket-upload", unit: "MiB/s", bar: 0.8, turns: 3, prepare: func(ctx context.Context, after *endings) (way, way, error) {
		return uploads(ctx, after, nil, (*bucketed).atHand)
	}}
	bucketSealed = benchmark{name: "bucket-sealed", unit: "MiB/s", bar: 0.8, turns: 3, prepare: func(ctx context.Context, after *endings) (way, way, error) {
		key, err := seal.NewKey()
		if err != nil {
			return nil, nil, err
		}
		return uploads(ctx, after, key, (*bucketed).atHand)
	}}
	// bucketMover is bucketUpload of a folder behind a mover, which uploads by itself.
	bucketMover = benchmark{name: "bucket-mover", unit: "MiB/s", bar: 0.8, turns: 3, prepare: func(ctx context.Context, after *endings) (way, way, error) {
		return uploads(ctx, after, nil, (*bucketed).behindMover)
	}}
)

// atHand is the folder of the bucket's host.
func (b *bucketed) atHand(_ context.Context, after *endings) (tree.Tree, error) {
	t, err := folder.Open(b.dir)
	if err == nil {
		after.do(func() { t.Close() })
	}
	return t, err
}

// behindMover is the folder behind a mover, which uploads to the bucket.
func (b *bucketed) behindMover(ctx context.Context, after *endings) (tree.Tree, error) {
	h, err := startMover(ctx, after, filepath.Join(b.dir, "mover"), b.dir)
	if err != nil {
		return nil, err
	}
	to := edge.Bucket{Endpoint: b.target.Endpoint, Plain: true, Region: b.target.Region, Bucket: b.target.Bucket, PathStyle: true, Key: b.target.Key, Secret: b.target.Secret}
	if _, err := (edge.Client{Caller: h, Folder: moverFolder}).Set(ctx, edge.Settings{Bucket: to, Whole: true}); err != nil {
		return nil, err
	}
	return h.Tree(ctx, moverFolder, "")
}

func uploads(ctx context.Context, after *endings, key *seal.Key, from func(*bucketed, context.Context, *endings) (tree.Tree, error)) (way, way, error) {
	b, err := newBucketed(ctx, after, 0, key)
	if err != nil {
		return nil, nil, err
	}
	source := filepath.Join(b.dir, "large")
	if err := randomFile(source, bucketLarge); err != nil {
		return nil, nil, err
	}
	files, err := from(b, ctx, after)
	if err != nil {
		return nil, nil, err
	}
	entry, err := files.Stat(ctx, "large")
	if err != nil {
		return nil, nil, err
	}
	sender, receiver := &transfer.Endpoint{Tree: files}, &transfer.Endpoint{Tree: b.tree}
	upload := func(name string, put func(context.Context) error) way {
		return func(ctx context.Context) (float64, error) {
			if err := b.client.RemoveObject(ctx, b.name, name, minio.RemoveObjectOptions{}); err != nil {
				return 0, err
			}
			began := time.Now()
			err := put(ctx)
			return bucketLarge / float64(1<<20) / time.Since(began).Seconds(), err
		}
	}
	return upload("ours", func(ctx context.Context) error {
			_, err := transfer.Copy(ctx, sender, receiver, transfer.File{Path: "large", Entry: entry}, "ours", transfer.Options{})
			return err
		}), upload("theirs", func(ctx context.Context) error {
			_, err := b.client.FPutObject(ctx, b.name, "theirs", source, minio.PutObjectOptions{})
			return err
		}), nil
}

// bucketSmall puts many small files concurrently into a distant service, compared with one at a time.
var bucketSmall = benchmark{name: "bucket-small", unit: "files/s", bar: 8, turns: 3, prepare: func(ctx context.Context, after *endings) (way, way, error) {
	b, err := newBucketed(ctx, after, bucketFar, nil)
	if err != nil {
		return nil, nil, err
	}
	var turn atomic.Int64
	text := bytes.Repeat([]byte("a plant "), 1024)
	put := func(wide, files int) way {
		return func(ctx context.Context) (float64, error) {
			folder := fmt.Sprint("turn", turn.Add(1))
			group, ctx := guard.WithContext(ctx)
			group.SetLimit(wide)
			began := time.Now()
			for i := range files {
				group.Go(func() error {
					_, err := b.tree.Put(ctx, fmt.Sprintf("%s/%d", folder, i), bytes.NewReader(text), tree.PutOptions{Size: int64(len(text)), SizeKnown: true})
					return err
				})
			}
			err := group.Wait()
			return float64(files) / time.Since(began).Seconds(), err
		}
	}
	return put(bucketWide, bucketFiles), put(1, bucketFiles/bucketWide), nil
}}

// bucketMoverSmall lets a mover upload many small files concurrently to a distant service, compared with one at a time.
var bucketMoverSmall = benchmark{name: "bucket-mover-small", unit: "files/s", bar: 8, turns: 3, prepare: func(ctx context.Context, after *endings) (way, way, error) {
	b, err := newBucketed(ctx, after, bucketFar, nil)
	if err != nil {
		return nil, nil, err
	}
	text := bytes.Repeat([]byte("a plant "), 1024)
	files := make([]transfer.File, bucketFiles)
	for i := range files {
		files[i].Path = fmt.Sprint("plant", i)
		if err := os.WriteFile(filepath.Join(b.dir, files[i].Path), text, 0o600); err != nil {
			return nil, nil, err
		}
	}
	from, err := b.behindMover(ctx, after)
	if err != nil {
		return nil, nil, err
	}
	for i := range files {
		if files[i].Entry, err = from.Stat(ctx, files[i].Path); err != nil {
			return nil, nil, err
		}
	}
	var turn atomic.Int64
	sender, receiver := &transfer.Endpoint{Tree: from}, &transfer.Endpoint{Tree: b.tree}
	upload := func(wide int, files []transfer.File) way {
		return func(ctx context.Context) (float64, error) {
			folder := fmt.Sprint("turn", turn.Add(1))
			group, ctx := guard.WithContext(ctx)
			group.SetLimit(wide)
			began := time.Now()
			for _, f := range files {
				group.Go(func() error {
					_, err := transfer.Copy(ctx, sender, receiver, f, folder+"/"+f.Path, transfer.Options{})
					return err
				})
			}
			err := group.Wait()
			return float64(len(files)) / time.Since(began).Seconds(), err
		}
	}
	return upload(bucketWide, files), upload(1, files[:bucketFiles/bucketWide]), nil
}}

// bucketList lists a folder of 20,000 objects, compared with the client library's listing.
var bucketList = benchmark{name: "bucket-list", unit: "objects/s", bar: 0.77, turns: 5, prepare: func(ctx context.Context, after *endings) (way, way, error) {
	b, err := newBucketed(ctx, after, 0, nil)
	if err != nil {
		return nil, nil, err
	}
	if err := b.fill(ctx, bucketNames, func(i int) string { return fmt.Sprintf("beds/plant%d", i) }); err != nil {
		return nil, nil, err
	}
	list := func(run func() (int, error)) way {
		return func(context.Context) (float64, error) {
			began := time.Now()
			n, err := run()
			if err == nil && n != bucketNames {
				err = fmt.Errorf("%d objects are listed", n)
			}
			return float64(n) / time.Since(began).Seconds(), err
		}
	}
	return list(func() (n int, err error) {
		for _, err := range b.tree.List(ctx, "beds", tree.Versions) {
			if err != nil {
				return n, err
			}
			n++
		}
		return n, nil
	}), list(func() (n int, err error) { return b.listed(ctx, "beds/") }), nil
}}

// bucketSweep scans a bucket of 200,000 objects in 1,000 folders in which nothing changed, compared with the client
// library's listing. It may take 1.3 times as long.
var bucketSweep = benchmark{name: "bucket-sweep", unit: "objects/s", bar: 1 / 1.3, turns: 3, prepare: func(ctx context.Context, after *endings) (way, way, error) {
	b, err := newBucketed(ctx, after, 0, nil)
	if err != nil {
		return nil, nil, err
	}
	f, err := newFill(ctx, after, 1, 1, 16)
	if err != nil {
		return nil, nil, err
	}
	const files = unchangedFiles
	if err := b.fill(ctx, files, func(i int) string { return fmt.Sprintf("house%d/bed%d/plant%d", i%10, i%1000, i) }); err != nil {
		return nil, nil, err
	}
	e := newEngine(f.db, &f.turn, b.tree, &memory.Tree{})
	id := e.Replicas[0].ID
	if _, err := e.Scan(ctx, id); err != nil {
		return nil, nil, err
	}
	return func(ctx context.Context) (float64, error) {
			began := time.Now()
			s, err := e.Scan(ctx, id)
			if err == nil && (s.Changed != 0 || s.Entries < files) {
				err = fmt.Errorf("a scan saw %+v", s)
			}
			return files / time.Since(began).Seconds(), err
		}, func(ctx context.Context) (float64, error) {
			began := time.Now()
			n, err := b.listed(ctx, "house")
			if err == nil && n != files {
				err = fmt.Errorf("%d objects are listed", n)
			}
			return files / time.Since(began).Seconds(), err
		}, nil
}}

// fill creates objects of one byte.
func (b *bucketed) fill(ctx context.Context, objects int, key func(i int) string) error {
	group, run := guard.WithContext(ctx)
	group.SetLimit(bucketWide)
	for i := range objects {
		group.Go(func() error {
			_, err := b.client.Client.PutObject(run, b.name, key(i), strings.NewReader("x"), 1, minio.PutObjectOptions{})
			return err
		})
	}
	return group.Wait()
}

// listed counts the objects with a prefix, by the client library's listing.
func (b *bucketed) listed(ctx context.Context, prefix string) (n int, err error) {
	for o := range b.client.ListObjectsIter(ctx, b.name, minio.ListObjectsOptions{Prefix: prefix, Recursive: true, MaxKeys: 1000}) {
		if o.Err != nil {
			return n, o.Err
		}
		n++
	}
	return n, nil
}

// randomFile writes a file of random content.
func randomFile(name string, size int64) error {
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	_, err = io.CopyN(f, rand.Reader, size)
	return errors.Join(err, f.Close())
}
