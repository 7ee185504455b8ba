package cloud

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"bridgespan/standin/process"
)

// freeAddress is one at which nobody listens.
func freeAddress(t *testing.T) string {
	t.Helper()
	port, err := process.FreePort("127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	return fmt.Sprintf("127.0.0.1:%d", port)
}

// A cloud of two regions is served with TLS, and its dials are turned from outside.
func TestServe(t *testing.T) {
	o := Options{Dir: t.TempDir(), TLS: true, Control: freeAddress(t), Regions: []Region{{Name: "coast-1", Listen: freeAddress(t)}, {Name: "inland-1", Listen: freeAddress(t), Delay: time.Millisecond}}}
	s, err := Start(o)
	if err != nil {
		t.Fatal(err)
	}
	if !s.Made || len(s.Config.Keys) != 1 {
		t.Errorf("made %v, keys %d", s.Made, len(s.Config.Keys))
	}
	pem, err := os.ReadFile(s.CA)
	if err != nil {
		t.Fatal(err)
	}
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(pem)
	key := s.Config.Keys[0]
	client := func(region int) *minio.Core {
		r := s.Config.Regions[region]
		c, err := minio.NewCore(r.Listen, &minio.Options{Creds: credentials.NewStaticV4(key.ID, key.Secret, ""), Region: r.Name, Secure: true, BucketLookup: minio.BucketLookupPath, MaxRetries: 1,
			Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots}}})
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	if err := client(0).MakeBucket(t.Context(), "files", minio.MakeBucketOptions{Region: "coast-1"}); err != nil {
		t.Fatal(err)
	}
	put := func(region int) error {
		_, err := client(region).Client.PutObject(t.Context(), "files", "f", strings.NewReader("x"), 1, minio.PutObjectOptions{})
		return err
	}
	if err := put(0); err != nil {
		t.Error(err)
	}
	wantCode(t, "a bucket of another region", put(1), "PermanentRedirect")

	turn := func(text string, want int) {
		t.Helper()
		r, err := http.NewRequestWithContext(t.Context(), http.MethodPut, "http://"+o.Control+"/dials", strings.NewReader(text))
		if err != nil {
			t.Fatal(err)
		}
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		said, _ := io.ReadAll(answer.Body)
		if answer.StatusCode != want {
			t.Errorf("%s: %d %s", text, answer.StatusCode, bytes.TrimSpace(said))
		}
	}
	turn(`{"errors": 2}`, http.StatusUnprocessableEntity)
	turn(`{"throttle": true}`, http.StatusOK)
	wantCode(t, "throttled from outside", put(0), "SlowDown")
	turn(`{}`, http.StatusOK)
	s.Stop()

	again, err := Start(Options{Dir: o.Dir, TLS: true})
	if err != nil {
		t.Fatal(err)
	}
	defer again.Stop()
	if again.Made || again.Config.Keys[0].ID != key.ID || again.Config.Keys[0].Secret != key.Secret {
		t.Error("the second start made other keys")
	}
	if _, err := client(0).StatObject(t.Context(), "files", "f", minio.StatObjectOptions{}); err != nil {
		t.Errorf("after the second start: %v", err)
	}
}

// Nobody but this machine is to meet a simulation.
func TestServeOnLoopbackAlone(t *testing.T) {
	if s, err := Start(Options{Dir: t.TempDir(), Regions: []Region{{Name: "coast-1", Listen: "0.0.0.0:0"}}}); err == nil {
		s.Stop()
		t.Error("it listens to everybody")
	}
}
