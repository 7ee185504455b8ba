package bucket_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/zeebo/blake3"

	"bridgespan/core/acl"
	"bridgespan/guard"
	"bridgespan/standin/cloud"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/bucket"
	"bridgespan/tree/bucket/seal"
	"bridgespan/tree/memory"
	"bridgespan/tree/treetest"
)

func TestConformance(t *testing.T) {
	s := standintest.Cloud(t)
	t.Run("Bucket", func(t *testing.T) {
		treetest.Run(t, func(t *testing.T) tree.Tree { return standintest.OpenBucket(t, s.Bucket(t)) })
	})
	t.Run("Folder", func(t *testing.T) {
		treetest.Run(t, func(t *testing.T) tree.Tree {
			target := s.Bucket(t)
			target.Prefix = "kept/by us"
			return standintest.OpenBucket(t, target)
		})
	})
	for name, names := range map[string]bool{"Sealed": false, "SealedNames": true} {
		t.Run(name, func(t *testing.T) {
			treetest.Run(t, func(t *testing.T) tree.Tree { return standintest.OpenBucket(t, sealed(t, s.Bucket(t), names)) })
		})
	}
}

// A file is a plain object that others read, and what goes with it is said beside it.
func TestObjectsArePlainFiles(t *testing.T) {
	s := standintest.Cloud(t)
	target := s.Bucket(t)
	b := standintest.OpenBucket(t, target)
	when := time.Date(2024, 2, 29, 12, 0, 0, 123456789, time.UTC)
	d, err := acl.Parse("O:BAG:BAD:PAI(A;;FA;;;BA)")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := b.Put(t.Context(), "beds/fern.txt", strings.NewReader("a fern"), tree.PutOptions{Meta: tree.Meta{Modified: when, Descriptor: d}}); err != nil {
		t.Fatal(err)
	}
	body, info, _, err := s.Client.GetObject(t.Context(), target.Bucket, "beds/fern.txt", minio.GetObjectOptions{})
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(body)
	sum := blake3.Sum256([]byte("a fern"))
	if err != nil || string(text) != "a fern" || info.UserMetadata["Bspan-Modified"] != when.Format(time.RFC3339Nano) || info.UserMetadata["Bspan-Hash"] != hex.EncodeToString(sum[:]) || info.UserMetadata["Bspan-Descriptor"] == "" {
		t.Errorf("others read %q, %v, %v", text, info.UserMetadata, err)
	}
}

// What others have put into a bucket is taken as it is; what no tree can hold is left out.
func TestObjectsOfOthers(t *testing.T) {
	s := standintest.Cloud(t)
	target := s.Bucket(t)
	for _, name := range []string{"a/b/c.txt", "a/", "top.txt", "a//odd", "a/./odd", "same", "same/inside"} {
		if _, err := s.Client.Client.PutObject(t.Context(), target.Bucket, name, strings.NewReader("x"), 1, minio.PutObjectOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	b := standintest.OpenBucket(t, target)
	var got []string
	for e, err := range tree.Walk(t.Context(), b, ".", tree.Plain) {
		if err != nil {
			t.Fatal(err)
		}
		got = append(got, e.Path)
	}
	slices.Sort(got)
	if want := "a a/b a/b/c.txt same top.txt"; strings.Join(got, " ") != want {
		t.Errorf("found %q, want %s", got, want)
	}
	e, err := b.Stat(t.Context(), "a/b/c.txt")
	if err != nil || e.Size != 1 || time.Since(e.Modified) > time.Hour {
		t.Errorf("it is %+v, %v", e, err)
	}
	if d, err := b.Descriptor(t.Context(), "a/b/c.txt"); err != nil || !d.IsZero() {
		t.Errorf("its descriptor is %v, %v", d, err)
	}
}

// A descriptor that is too long to be metadata is kept once, for all files that have it.
func TestLongDescriptors(t *testing.T) {
	s := standintest.Cloud(t)
	target := s.Bucket(t)
	b := standintest.OpenBucket(t, target)
	text := "O:BAG:BAD:PAI"
	for i := range 100 {
		text += fmt.Sprintf("(A;;FR;;;S-1-5-21-1-2-3-%d)", 1000+i)
	}
	d, err := acl.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"one", "two"} {
		if _, err := b.Put(t.Context(), name, strings.NewReader(name), tree.PutOptions{Meta: tree.Meta{Descriptor: d}}); err != nil {
			t.Fatal(err)
		}
	}
	other := standintest.OpenBucket(t, target) // which remembers none
	for _, name := range []string{"one", "two"} {
		if got, err := other.Descriptor(t.Context(), name); err != nil || got.String() != d.String() {
			t.Errorf("%s has %v, %v", name, got, err)
		}
	}
	kept := 0
	for o := range s.Client.ListObjectsIter(t.Context(), target.Bucket, minio.ListObjectsOptions{Prefix: ".bspan/descriptors/", Recursive: true}) {
		if kept++; o.Err != nil {
			t.Fatal(o.Err)
		}
	}
	if kept != 1 {
		t.Errorf("%d descriptors are kept", kept)
	}
}

// uploads are those that are open in a bucket.
func uploads(t *testing.T, s *standintest.Sky, name string) int {
	t.Helper()
	list, err := s.Client.ListMultipartUploads(t.Context(), name, "", "", "", "", 10)
	if err != nil {
		t.Fatal(err)
	}
	return len(list.Uploads)
}

// A long file is sent in parts. One that fails half-way leaves nothing, also no open upload.
func TestLongFiles(t *testing.T) {
	s := standintest.Cloud(t)
	target := s.Bucket(t)
	b := standintest.OpenBucket(t, target)
	long := make([]byte, 40<<20+7)
	_, _ = rand.Read(long)
	e, err := b.Put(t.Context(), "long", bytes.NewReader(long), tree.PutOptions{Size: int64(len(long)), SizeKnown: true})
	if err != nil || e.Size != int64(len(long)) {
		t.Fatalf("put %+v, %v", e, err)
	}
	now, err := b.Stat(t.Context(), "long")
	if err != nil || now.Version != e.Version || !strings.HasSuffix(now.Version, "-3") {
		t.Errorf("it is %+v, %v", now, err)
	}
	c, err := b.Open(t.Context(), "long")
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	got, err := io.ReadAll(tree.Stream(t.Context(), c, 0))
	if err != nil || !bytes.Equal(got, long) {
		t.Errorf("read %d bytes, %v", len(got), err)
	}
	p := make([]byte, 1000)
	for _, off := range []int64{30 << 20, 30<<20 + 1000, 5, 35 << 20} { // back and forth
		if n, err := c.ReadAt(p, off); n != 1000 || err != nil || !bytes.Equal(p, long[off:off+1000]) {
			t.Errorf("at %d: %d bytes, %v", off, n, err)
		}
	}

	broken := errors.New("the line went down")
	half := io.MultiReader(bytes.NewReader(long[:20<<20]), failing{broken})
	if _, err := b.Put(t.Context(), "torn", half, tree.PutOptions{Size: int64(len(long)), SizeKnown: true}); !errors.Is(err, broken) {
		t.Errorf("from a failing source: %v", err)
	}
	if _, err := b.Put(t.Context(), "short", bytes.NewReader(long), tree.PutOptions{Size: int64(len(long)) + 1, SizeKnown: true}); !errors.Is(err, tree.ErrTorn) {
		t.Errorf("of too little: %v", err)
	}
	if _, err := b.Put(t.Context(), "endless", zeroes{}, tree.PutOptions{Size: 30 << 20, SizeKnown: true}); !errors.Is(err, tree.ErrTorn) {
		t.Errorf("of too much: %v", err)
	}
	if _, err := b.Put(t.Context(), "long", bytes.NewReader(long), tree.PutOptions{}); !errors.Is(err, fs.ErrExist) {
		t.Errorf("over what is there: %v", err)
	}
	s.Dials().Turn(cloud.Settings{CutAfter: 1 << 20})
	if _, err := b.Put(t.Context(), "cut", bytes.NewReader(long), tree.PutOptions{}); !errors.Is(err, tree.ErrUnreachable) {
		t.Errorf("with uploads that are cut: %v", err)
	}
	s.Dials().Turn(cloud.Settings{})
	if n := uploads(t, s, target.Bucket); n != 0 {
		t.Errorf("%d uploads stay open", n)
	}
	if used, _, err := s.Usage(target.Bucket); err != nil || used != int64(len(long)) {
		t.Errorf("the bucket holds %d bytes, %v", used, err)
	}
}

// zeroes is content without an end.
type zeroes struct{}

func (zeroes) Read(p []byte) (int, error) { clear(p); return len(p), nil }

type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }

// All uploads of a tree together hold no more memory than one tree may, and none waits for another without end.
func TestUploadsShareMemory(t *testing.T) {
	b := standintest.OpenBucket(t, standintest.Cloud(t).Bucket(t))
	var group guard.WaitGroup
	for i := range 12 { // each would hold five parts
		group.Go(func() {
			if _, err := b.Put(t.Context(), fmt.Sprint(i), io.LimitReader(zeroes{}, 40<<20), tree.PutOptions{Size: 40 << 20, SizeKnown: true}); err != nil {
				t.Error(err)
			}
		})
	}
	var most uint64
	done := make(chan struct{})
	go func() { _ = group.Wait(); close(done) }()
	for tick := time.NewTicker(20 * time.Millisecond); ; {
		select {
		case <-done:
			t.Logf("%d MiB were in use at most", most>>20)
			if most > 400<<20 { // what is in use no more is freed late
				t.Errorf("%d MiB were in use", most>>20)
			}
			return
		case <-tick.C:
			var now runtime.MemStats
			runtime.ReadMemStats(&now)
			most = max(most, now.HeapInuse)
		}
	}
}

// Whoever reads a version that was replaced meanwhile is told, and gets no mixture.
func TestReplacedWhileRead(t *testing.T) {
	s := standintest.Cloud(t)
	b := standintest.OpenBucket(t, s.Bucket(t))
	old := bytes.Repeat([]byte("old "), 1<<20)
	if _, err := b.Put(t.Context(), "f", bytes.NewReader(old), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	c, err := b.Open(t.Context(), "f")
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if _, err := b.Put(t.Context(), "f", bytes.NewReader(bytes.Repeat([]byte("new "), 1<<20)), tree.PutOptions{Replace: true}); err != nil {
		t.Fatal(err)
	}
	if _, err := c.ReadAt(make([]byte, 10), 3<<20); !errors.Is(err, tree.ErrVersion) {
		t.Errorf("a range of another version: %v", err)
	}
}

// Errors are those of a tree.
func TestErrors(t *testing.T) {
	s := standintest.Cloud(t)
	target := s.Bucket(t)
	change := func(change func(*bucket.Target)) bucket.Target { other := target; change(&other); return other }
	for what, c := range map[string]struct {
		target bucket.Target
		want   error
	}{
		"another secret": {change(func(o *bucket.Target) { o.Secret = "another" }), fs.ErrPermission},
		"an unknown key": {change(func(o *bucket.Target) { o.Key = "nobody" }), fs.ErrPermission},
		"no bucket":      {change(func(o *bucket.Target) { o.Bucket = "nothing-here" }), tree.ErrUnreachable},
		"nobody there":   {change(func(o *bucket.Target) { o.Endpoint = "127.0.0.1:1" }), tree.ErrUnreachable},
	} {
		if _, err := bucket.Dial(t.Context(), c.target); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", what, err, c.want)
		}
	}
	b := standintest.OpenBucket(t, target)
	if err := s.SetQuota(target.Bucket, 5); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Put(t.Context(), "f", strings.NewReader("123456"), tree.PutOptions{}); !errors.Is(err, tree.ErrNoSpace) {
		t.Errorf("over the quota: %v", err)
	}
	if _, err := b.Put(t.Context(), strings.Repeat("long/", 250)+"f", strings.NewReader("1"), tree.PutOptions{}); !errors.Is(err, fs.ErrInvalid) {
		t.Errorf("a path that is too long: %v", err)
	}
	s.Dials().Turn(cloud.Settings{Outage: true})
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	if _, err := b.Stat(ctx, "f"); !errors.Is(err, tree.ErrUnreachable) {
		t.Errorf("while it is away: %v", err)
	}
}

// Trees of one folder of a bucket, with one key, have one identity; any other has another.
func TestStoreID(t *testing.T) {
	key, err := seal.NewKey()
	if err != nil {
		t.Fatal(err)
	}
	sky := standintest.Cloud(t)
	first := sky.Bucket(t)
	ids := map[string]string{}
	for what, change := range map[string]func(*bucket.Target){
		"plain": func(*bucket.Target) {}, "a folder": func(t *bucket.Target) { t.Prefix = "kept" }, "another bucket": func(to *bucket.Target) { *to = sky.Bucket(t) },
		"sealed": func(t *bucket.Target) { t.Seal = key }, "with names": func(t *bucket.Target) { t.Seal = key.WithNames() },
	} {
		target := first
		change(&target)
		id, err := tree.StoreID(t.Context(), standintest.OpenBucket(t, target))
		again, bad := tree.StoreID(t.Context(), standintest.OpenBucket(t, target))
		if err := errors.Join(err, bad); err != nil || id != again || ids[id] != "" {
			t.Errorf("%s: %s and %s, as %s; %v", what, id, again, ids[id], err)
		}
		ids[id] = what
	}
	if _, err := tree.StoreID(t.Context(), &memory.Tree{}); !errors.Is(err, tree.ErrUnsupported) {
		t.Errorf("a tree in memory: %v", err)
	}
}
