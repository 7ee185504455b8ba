package standintest

import (
	"fmt"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"bridgespan/standin/cloud"
	"bridgespan/tree/bucket"
)

// Sky is a simulated cloud with one region, coast-1.
type Sky struct {
	*cloud.Cloud
	Key      cloud.Key
	Endpoint string
	// Client knows nothing of Bridge Span.
	Client  *minio.Core
	buckets atomic.Int32
}

// skyRegion is its region. FarRegion is another one, which answers late; [cloud.Cloud.Region] serves it.
const (
	skyRegion = "coast-1"
	FarRegion = "inland-1"
	farDelay  = 60 * time.Millisecond
)

// Cloud starts a simulated cloud, and ends it with the test.
func Cloud(t testing.TB) *Sky { return CloudOf(t) }

// CloudOf is Cloud with more keys.
func CloudOf(t testing.TB, more ...cloud.Key) *Sky {
	t.Helper()
	s := &Sky{Key: cloud.Key{ID: "trust-key", Secret: "a secret of the trust", Account: "trust", Rights: cloud.AllRights}}
	var err error
	if s.Cloud, err = cloud.Open(cloud.Config{Dir: t.TempDir(), Keys: append(more, s.Key), Regions: []cloud.Region{{Name: skyRegion}, {Name: FarRegion, Delay: farDelay}}}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	server := httptest.NewServer(s.Region(skyRegion))
	t.Cleanup(server.Close)
	s.Endpoint = strings.TrimPrefix(server.URL, "http://")
	if s.Client, err = minio.NewCore(s.Endpoint, &minio.Options{Creds: credentials.NewStaticV4(s.Key.ID, s.Key.Secret, ""), Region: skyRegion}); err != nil {
		t.Fatal(err)
	}
	return s
}

// Bucket makes a bucket that holds nothing.
func (s *Sky) Bucket(t testing.TB) bucket.Target {
	t.Helper()
	name := fmt.Sprint("files-", s.buckets.Add(1))
	if err := s.Client.MakeBucket(t.Context(), name, minio.MakeBucketOptions{Region: skyRegion}); err != nil {
		t.Fatal(err)
	}
	return bucket.Target{Endpoint: s.Endpoint, Plain: true, Region: skyRegion, Bucket: name, PathStyle: true, Key: s.Key.ID, Secret: s.Key.Secret}
}

// Sent is how many bytes were read from a bucket.
func (s *Sky) Sent(t testing.TB, bucket string) int64 {
	t.Helper()
	bills, err := s.Bills()
	if err != nil {
		t.Fatal(err)
	}
	for _, b := range bills {
		if b.Bucket == bucket {
			return b.OutBytes
		}
	}
	t.Fatalf("no bill for %s", bucket)
	return 0
}

// OpenBucket opens a bucket, until the test ends.
func OpenBucket(t testing.TB, target bucket.Target) *bucket.Tree {
	t.Helper()
	b, err := bucket.Dial(t.Context(), target)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { b.Close() })
	return b
}
