package bucket

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"strings"
	"sync/atomic"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	rules "bridgespan/core/bucket"
	"bridgespan/tree"
)

// Account is an account at an object service.
type Account struct {
	target Target
	core   *minio.Core
	wire   *wire
}

// ErrKey: the service does not know the key, or its secret is another one.
var ErrKey = fmt.Errorf("%w: the service does not take the key", fs.ErrPermission)

// connect prepares requests. None is made yet.
func connect(t Target) (*minio.Core, *wire, error) {
	w := &wire{RoundTripper: t.transport()}
	lookup := minio.BucketLookupDNS
	if t.PathStyle || !rules.HostStyle(t.Bucket, !t.Plain) {
		lookup = minio.BucketLookupPath
	}
	core, err := minio.NewCore(t.Endpoint, &minio.Options{
		Creds: credentials.NewStaticV4(t.Key, t.Secret, ""), Secure: !t.Plain, Region: t.Region, BucketLookup: lookup,
		MaxRetries: attempts, Transport: w,
	})
	return core, w, err
}

func (t Target) transport() *http.Transport {
	transport := &http.Transport{
		MaxIdleConns: mostIdle, MaxIdleConnsPerHost: mostIdle, IdleConnTimeout: time.Minute, MaxResponseHeaderBytes: mostHeader,
		TLSHandshakeTimeout: connecting, ResponseHeaderTimeout: time.Minute, TLSClientConfig: t.tls(), DisableCompression: true,
	}
	if t.Proxy != nil {
		transport.Proxy = http.ProxyURL(t.Proxy)
	}
	return transport
}

func (t Target) tls() *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: t.Roots}
}

// Authority reads the certificate of an authority, in PEM.
func Authority(pem string) (*x509.CertPool, error) {
	roots := x509.NewCertPool()
	if !roots.AppendCertsFromPEM([]byte(pem)) {
		return nil, fmt.Errorf("there is no certificate in PEM in it")
	}
	return roots, nil
}

// Greet connects to a service and hangs up: nothing is asked of it, which would cost something.
func Greet(ctx context.Context, t Target) error {
	if t.Plain {
		conn, err := new(net.Dialer).DialContext(ctx, "tcp", t.Endpoint)
		if err != nil {
			return classified(err)
		}
		return conn.Close()
	}
	conn, err := (&tls.Dialer{Config: t.tls()}).DialContext(ctx, "tcp", t.Endpoint)
	if err != nil {
		return classified(err)
	}
	return conn.Close()
}

// SignIn signs in to an account: it asks for its buckets, which a key may be forbidden to.
func SignIn(ctx context.Context, t Target) (*Account, error) {
	core, w, err := connect(t)
	if err != nil {
		return nil, err
	}
	a := &Account{t, core, w}
	if _, err := a.Buckets(ctx); err != nil && !forbidden(err) {
		return nil, err
	}
	return a, nil
}

// forbidden reports whether a key is known and may not do something.
func forbidden(err error) bool { return minio.ToErrorResponse(err).Code == "AccessDenied" }

// Buckets lists the names of the account's buckets in its region.
func (a *Account) Buckets(ctx context.Context) (names []string, err error) {
	list, err := a.core.ListBuckets(ctx)
	for _, b := range list {
		if b.BucketRegion == "" || strings.EqualFold(b.BucketRegion, a.target.Region) {
			names = append(names, b.Name)
		}
	}
	return names, classified(err)
}

// Open opens a bucket, or a folder in it.
func (a *Account) Open(ctx context.Context, name, folder string) (*Tree, error) {
	t := a.target
	t.Bucket, t.Prefix = name, folder
	return Dial(ctx, t)
}

// Clock is how far the clock of the service is from ours, by its last answer; to the second.
func (a *Account) Clock() time.Duration { return time.Duration(a.wire.clock.Load()) }

// Close ends idle connections.
func (a *Account) Close() error {
	a.wire.close()
	return nil
}

// wire is a transport whose answers are no longer than they may be, but for what files hold. It reads the
// clock of the service.
type wire struct {
	http.RoundTripper
	clock atomic.Int64
}

type contentKey struct{}

// ofContent returns a context for requests that are answered with what a file holds.
func ofContent(ctx context.Context) context.Context {
	return context.WithValue(ctx, contentKey{}, true)
}

type pagesKey struct{}

// ofListing returns a context for the requests of one listing, which end some time, whatever the service says.
func ofListing(ctx context.Context) context.Context {
	return context.WithValue(ctx, pagesKey{}, new(atomic.Int64))
}

// mostPages is how many answers one listing takes at most: some more than hold all entries that one may have.
const mostPages = 2 * tree.MostEntries / page

func (w *wire) RoundTrip(r *http.Request) (*http.Response, error) {
	if pages, ok := r.Context().Value(pagesKey{}).(*atomic.Int64); ok && pages.Add(1) > mostPages {
		return nil, fmt.Errorf("%w: a listing without an end", tree.ErrUntrusted)
	}
	answer, err := w.RoundTripper.RoundTrip(r)
	if err != nil {
		return answer, err
	}
	if at, err := http.ParseTime(answer.Header.Get("Date")); err == nil {
		w.clock.Store(int64(time.Until(at.Add(time.Second / 2)).Truncate(time.Second)))
	}
	if r.Context().Value(contentKey{}) == nil {
		answer.Body = struct {
			io.Reader
			io.Closer
		}{io.LimitReader(answer.Body, mostAnswer), answer.Body}
	}
	return answer, nil
}

func (w *wire) close() { w.RoundTripper.(*http.Transport).CloseIdleConnections() }
