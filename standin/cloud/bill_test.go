package cloud

import (
	"io"
	"math"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

// The bill has what is stored now and what was read, with the prices of the region.
func TestBills(t *testing.T) {
	key := Key{ID: "trust-key", Secret: "a secret of the trust", Account: "trust", Rights: AllRights}
	c, err := Open(Config{Dir: t.TempDir(), Keys: []Key{key}, Regions: []Region{{Name: "coast-1", StoredPrice: 20, OutPrice: 90}}})
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	server := httptest.NewServer(c.Region("coast-1"))
	defer server.Close()
	client, err := minio.NewCore(strings.TrimPrefix(server.URL, "http://"), &minio.Options{Creds: credentials.NewStaticV4(key.ID, key.Secret, ""), Region: "coast-1"})
	if err != nil {
		t.Fatal(err)
	}
	if err := client.MakeBucket(t.Context(), "files", minio.MakeBucketOptions{Region: "coast-1"}); err != nil {
		t.Fatal(err)
	}
	for _, size := range []int{4_000_000, 2_000_000} { // the second replaces the first
		if _, err := client.Client.PutObject(t.Context(), "files", "f", strings.NewReader(strings.Repeat("x", size)), int64(size), minio.PutObjectOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	read := func(o minio.GetObjectOptions) {
		t.Helper()
		body, _, _, err := client.GetObject(t.Context(), "files", "f", o)
		if err != nil {
			t.Fatal(err)
		}
		defer body.Close()
		if _, err := io.Copy(io.Discard, body); err != nil {
			t.Fatal(err)
		}
	}
	read(minio.GetObjectOptions{})
	var part minio.GetObjectOptions
	if err := part.SetRange(0, 999_999); err != nil {
		t.Fatal(err)
	}
	read(part)
	if _, err := client.StatObject(t.Context(), "files", "f", minio.StatObjectOptions{}); err != nil {
		t.Fatal(err)
	}
	bills, err := c.Bills()
	if err != nil || len(bills) != 1 {
		t.Fatalf("%+v, %v", bills, err)
	}
	if b := bills[0]; b.Bucket != "files" || b.StoredBytes != 2_000_000 || b.OutBytes != 3_000_000 || math.Abs(b.Stored-0.04) > 1e-9 || math.Abs(b.Out-0.27) > 1e-9 {
		t.Errorf("the bill is %+v", b)
	}
}
