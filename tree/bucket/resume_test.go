package bucket_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/zeebo/blake3"

	"bridgespan/core/chunk"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/bucket"
)

// counted is a service that counts the bytes of parts, and can end connections in the middle of one.
type counted struct {
	target bucket.Target
	parts  atomic.Int64 // bytes of parts
	left   atomic.Int64 // parts that are received before connections end; below 0: all
}

func newCounted(t *testing.T, s *standintest.Sky, sealing func(bucket.Target) bucket.Target) *counted {
	t.Helper()
	c := &counted{target: sealing(s.Bucket(t))}
	c.left.Store(-1)
	region := s.Region(c.target.Region)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPut && r.URL.Query().Has("partNumber") {
			if left := c.left.Load(); left == 0 || left > 0 && c.left.Add(-1) < 0 {
				panic(http.ErrAbortHandler)
			}
			c.parts.Add(r.ContentLength)
		}
		region.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	c.target.Endpoint = strings.TrimPrefix(server.URL, "http://")
	return c
}

// notes are the notes of open uploads in a bucket.
func notes(t *testing.T, s *standintest.Sky, name string) (keys []string) {
	t.Helper()
	for o := range s.Client.ListObjectsIter(t.Context(), name, minio.ListObjectsOptions{Prefix: ".bspan/uploads/", Recursive: true}) {
		if o.Err != nil {
			t.Fatal(o.Err)
		}
		keys = append(keys, o.Key)
	}
	return keys
}

const longSize = 40 << 20 // three parts

func longContent() []byte {
	long := make([]byte, longSize)
	_, _ = rand.Read(long)
	return long
}

// asLong are the options of a put of a long content at a fixed time.
func asLong(content []byte) tree.PutOptions {
	return tree.PutOptions{Size: int64(len(content)), SizeKnown: true, Digest: blake3.Sum256(content), Replace: true, Meta: tree.Meta{Modified: time.Date(2026, 5, 4, 3, 2, 1, 0, time.UTC), Descriptor: descriptor("O:BAG:BAD:PAI(A;;FA;;;BA)")}}
}

// plainAndSealed runs a test with plain files and with sealed ones.
func plainAndSealed(t *testing.T, test func(t *testing.T, s *standintest.Sky, sealing func(bucket.Target) bucket.Target)) {
	s := standintest.Cloud(t)
	t.Run("Plain", func(t *testing.T) { test(t, s, func(target bucket.Target) bucket.Target { return target }) })
	t.Run("Sealed", func(t *testing.T) {
		key := newKey(t)
		test(t, s, func(target bucket.Target) bucket.Target {
			target.Seal = key
			return target
		})
	})
}

// interrupt puts a file on a line that goes down after a part.
func (c *counted) interrupt(t *testing.T, content []byte) {
	t.Helper()
	c.interruptAs(t, content, asLong(content))
}

func (c *counted) interruptAs(t *testing.T, content []byte, options tree.PutOptions) {
	t.Helper()
	c.left.Store(1)
	defer c.left.Store(-1)
	if _, err := standintest.OpenBucket(t, c.target).Put(t.Context(), "long", bytes.NewReader(content), options); !errors.Is(err, tree.ErrUnreachable) {
		t.Fatalf("on a line that goes down: %v", err)
	}
}

func (c *counted) wantObject(t *testing.T, s *standintest.Sky, want []byte) {
	t.Helper()
	r, _, _, err := s.Client.GetObject(t.Context(), c.target.Bucket, "long", minio.GetObjectOptions{})
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	var content io.Reader = r
	if c.target.Seal != nil {
		content = decrypted(t, c.target.Seal, r)
	}
	if got, err := io.ReadAll(content); err != nil || !bytes.Equal(got, want) {
		t.Errorf("the object has %d bytes, %v, and is another one", len(got), err)
	}
	if open, left := uploads(t, s, c.target.Bucket), notes(t, s, c.target.Bucket); open != 0 || len(left) != 0 {
		t.Errorf("%d uploads stay open, with the notes %q", open, left)
	}
}

// An interrupted upload goes on with the parts that were not received, by whoever tries next.
func TestResumesUpload(t *testing.T) {
	plainAndSealed(t, func(t *testing.T, s *standintest.Sky, sealing func(bucket.Target) bucket.Target) {
		c, long := newCounted(t, s, sealing), longContent()
		c.interrupt(t, long)
		if open, left := uploads(t, s, c.target.Bucket), notes(t, s, c.target.Bucket); open != 1 || len(left) != 1 {
			t.Errorf("%d uploads are open, with the notes %q", open, left)
		}
		before := c.parts.Swap(0)
		if _, err := standintest.OpenBucket(t, c.target).Put(t.Context(), "long", bytes.NewReader(long), asLong(long)); err != nil {
			t.Fatal(err)
		}
		if after := c.parts.Load(); after > longSize-15<<20 || // signatures of chunks count
			before+after < longSize {
			t.Errorf("%d bytes crossed before, and %d afterwards, of %d", before, after, longSize)
		}
		c.wantObject(t, s, long)
	})
}

// What has changed since is sent again.
func TestResumesWithOtherContent(t *testing.T) {
	s := standintest.Cloud(t)
	c, long := newCounted(t, s, func(target bucket.Target) bucket.Target { return target }), longContent()
	options := asLong(long)
	options.Digest = chunk.Digest{}
	c.interruptAs(t, long, options)
	other := bytes.Clone(long)
	other[3] ^= 1
	if _, err := standintest.OpenBucket(t, c.target).Put(t.Context(), "long", bytes.NewReader(other), options); err != nil {
		t.Fatal(err)
	}
	c.wantObject(t, s, other)
}

// An upload that somebody aborted meanwhile begins anew.
func TestResumesAborted(t *testing.T) {
	plainAndSealed(t, func(t *testing.T, s *standintest.Sky, sealing func(bucket.Target) bucket.Target) {
		c, long := newCounted(t, s, sealing), longContent()
		c.interrupt(t, long)
		list, err := s.Client.ListMultipartUploads(t.Context(), c.target.Bucket, "", "", "", "", 10)
		if err != nil || len(list.Uploads) != 1 {
			t.Fatalf("%+v, %v", list, err)
		}
		if err := s.Client.AbortMultipartUpload(t.Context(), c.target.Bucket, "long", list.Uploads[0].UploadID); err != nil {
			t.Fatal(err)
		}
		if _, err := standintest.OpenBucket(t, c.target).Put(t.Context(), "long", bytes.NewReader(long), asLong(long)); err != nil {
			t.Fatal(err)
		}
		c.wantObject(t, s, long)
	})
}

// A process that ends at any request leaves nothing that the next try, or tidying, does not find.
func TestEndsAtAnyRequest(t *testing.T) {
	plainAndSealed(t, func(t *testing.T, s *standintest.Sky, sealing func(bucket.Target) bucket.Target) {
		long := longContent()[:20<<20] // two parts
		options := asLong(long)
		for requests := int64(0); ; requests++ {
			target, left := sealing(s.Bucket(t)), atomic.Int64{}
			left.Store(requests)
			ctx, end := context.WithCancel(t.Context())
			region := s.Region(target.Region)
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if left.Add(-1) < 0 {
					end()
					panic(http.ErrAbortHandler)
				}
				region.ServeHTTP(w, r)
			}))
			target.Endpoint = strings.TrimPrefix(server.URL, "http://")
			b, err := bucket.Dial(ctx, target)
			if err == nil {
				_, err = b.Put(ctx, "long", bytes.NewReader(long), options)
				b.Close()
			}
			server.Close()
			end()
			target.Endpoint = s.Endpoint
			again := standintest.OpenBucket(t, target)
			if requests%2 == 0 {
				if err := bucket.TidyAll(again, t.Context(), -time.Hour); err != nil {
					t.Fatal(err)
				}
			} else if _, err := again.Put(t.Context(), "long", bytes.NewReader(long), options); err != nil {
				t.Fatal(err)
			}
			if open, left := uploads(t, s, target.Bucket), notes(t, s, target.Bucket); open != 0 || len(left) != 0 {
				t.Errorf("ended at request %d: %d uploads stay open, with the notes %q", requests, open, left)
			}
			if err == nil {
				if requests < 8 {
					t.Errorf("it took %d requests only", requests)
				}
				return
			}
		}
	})
}

// Tidying leaves alone what is young, and what others have begun.
func TestTidy(t *testing.T) {
	s := standintest.Cloud(t)
	c := newCounted(t, s, func(target bucket.Target) bucket.Target { return target })
	c.interrupt(t, longContent())
	if _, err := s.Client.NewMultipartUpload(t.Context(), c.target.Bucket, "theirs", minio.PutObjectOptions{}); err != nil {
		t.Fatal(err)
	}
	for _, foreign := range []string{"{}", "no JSON", `{"key":"theirs"`} {
		if _, err := s.Client.Client.PutObject(t.Context(), c.target.Bucket, ".bspan/uploads/"+foreign, strings.NewReader(foreign), int64(len(foreign)), minio.PutObjectOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	b := standintest.OpenBucket(t, c.target)
	if err := tree.Tidy(t.Context(), b); err != nil {
		t.Fatal(err)
	}
	if open, left := uploads(t, s, c.target.Bucket), notes(t, s, c.target.Bucket); open != 2 || len(left) != 4 {
		t.Errorf("while all is young, %d uploads are open, with the notes %q", open, left)
	}
	if err := bucket.TidyAll(b, t.Context(), -time.Hour); err != nil {
		t.Fatal(err)
	}
	if open, left := uploads(t, s, c.target.Bucket), notes(t, s, c.target.Bucket); open != 1 || len(left) != 0 {
		t.Errorf("afterwards, %d uploads are open, with the notes %q", open, left)
	}
}

// With one key, two contents are never encrypted: an upload of another content than that of the interrupted one begins anew.
func TestSealedUploadOfOtherContent(t *testing.T) {
	s := standintest.Cloud(t)
	key := newKey(t)
	c, long := newCounted(t, s, func(target bucket.Target) bucket.Target { target.Seal = key; return target }), longContent()
	c.interrupt(t, long)
	other := bytes.Clone(long)
	other[3] ^= 1
	b := standintest.OpenBucket(t, c.target)
	if _, err := b.Put(t.Context(), "long", bytes.NewReader(other), asLong(long)); !errors.Is(err, tree.ErrTorn) {
		t.Errorf("with the hash of the first content: %v", err)
	}
	if open, left := uploads(t, s, c.target.Bucket), notes(t, s, c.target.Bucket); open != 0 || len(left) != 0 {
		t.Errorf("%d uploads stay open, with the notes %q", open, left)
	}
	options := asLong(other)
	options.Digest = chunk.Digest{}
	c.interruptAs(t, other, options)
	if _, err := b.Put(t.Context(), "long", bytes.NewReader(long), options); err != nil {
		t.Fatal(err)
	}
	if err := bucket.TidyAll(b, t.Context(), -time.Hour); err != nil {
		t.Fatal(err)
	}
	c.wantObject(t, s, long)
}
