package cloud

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
)

// The receiver of a bucket is told of created and removed objects, again when it fails, and of those of other buckets nothing.
func TestReceiver(t *testing.T) {
	told := make(chan string, 10)
	var calls atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if calls.Add(1) == 1 {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		var document struct{ Records []eventRecord }
		if err := json.NewDecoder(r.Body).Decode(&document); err != nil || r.Header.Get("Authorization") != "Bearer a token" {
			t.Errorf("the receiver was sent %+v, %v, as %s", document, err, r.Header.Get("Authorization"))
		}
		for _, e := range document.Records {
			told <- strings.Join([]string{e.EventName, e.S3.Bucket.Name, e.S3.Object.Key}, " ")
		}
	}))
	defer server.Close()
	s := start(t)
	ctx, client := t.Context(), s.trust()
	if err := client.MakeBucket(ctx, "others", minio.MakeBucketOptions{Region: "coast-1"}); err != nil {
		t.Fatal(err)
	}
	if err := s.SetReceiver(Receiver{Bucket: "files", URL: "nowhere"}); err == nil {
		t.Error("what is no URL was taken")
	}
	if err := s.SetReceiver(Receiver{Bucket: "files", URL: server.URL, Token: "a token"}); err != nil {
		t.Fatal(err)
	}
	put := func(bucket, key string) {
		t.Helper()
		if _, err := client.PutObject(ctx, bucket, key, strings.NewReader("x"), 1, "", "", minio.PutObjectOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	put("others", "unseen")
	put("files", "a b/ü.txt")
	if err := client.RemoveObject(ctx, "files", "a b/ü.txt", minio.RemoveObjectOptions{}); err != nil {
		t.Fatal(err)
	}
	want := func(event string) {
		t.Helper()
		select {
		case got := <-told:
			if got != event {
				t.Errorf("told %q, want %q", got, event)
			}
		case <-time.After(20 * time.Second):
			t.Fatalf("waited for %q in vain", event)
		}
	}
	want("ObjectCreated:Put files a+b%2F%C3%BC.txt")
	want("ObjectRemoved:Delete files a+b%2F%C3%BC.txt")
	if err := s.SetReceiver(Receiver{Bucket: "files"}); err != nil {
		t.Fatal(err)
	}
	put("files", "when nobody receives")
	if err := s.SetReceiver(Receiver{Bucket: "files", URL: server.URL, Token: "a token"}); err != nil {
		t.Fatal(err)
	}
	put("files", "later")
	want("ObjectCreated:Put files later")
}
