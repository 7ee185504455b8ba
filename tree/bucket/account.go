package bucket

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync/atomic"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	rules "bridgespan/core/bucket"
	"bridgespan/tree"
	"bridgespan/tree/bucket/seal"
)

// Account is an account at an object service.
type Account struct {
	target Target
	core   *minio.Core
	wire   *wire
}

// ErrKey: the service does not know the access key, or the secret is wrong.
var ErrKey = fmt.Errorf("%w: the service rejected the access key", fs.ErrPermission)

// connect prepares a client. It sends no request.
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
	return &http.Transport{
		MaxIdleConns: mostIdle, MaxIdleConnsPerHost: mostIdle, IdleConnTimeout: time.Minute, MaxResponseHeaderBytes: mostHeader,
		TLSHandshakeTimeout: connecting, ResponseHeaderTimeout: time.Minute, TLSClientConfig: t.tls(), DisableCompression: true,
		Proxy: http.ProxyURL(t.Proxy), OnProxyConnectResponse: checkProxy,
	}
}

// checkProxy tells a refusal of the proxy from one of the service.
func checkProxy(_ context.Context, _ *url.URL, _ *http.Request, answer *http.Response) error {
	if answer.StatusCode == http.StatusProxyAuthRequired {
		return ErrProxy
	}
	return nil
}

func (t Target) tls() *tls.Config {
	return &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: t.Roots}
}

// Authority parses CA certificates in PEM.
func Authority(pem string) (*x509.CertPool, error) {
	roots := x509.NewCertPool()
	if !roots.AppendCertsFromPEM([]byte(pem)) {
		return nil, errors.New("it contains no certificate in PEM")
	}
	return roots, nil
}

// ParseProxy parses the address of an HTTP proxy, such as http://proxy.example.org:3128, or http://USER@HOST:PORT for one that asks for a user
// with a password. An address without a port has that of its scheme.
func ParseProxy(text, password string) (*url.URL, error) {
	u, err := url.Parse(text)
	switch {
	case err != nil:
		return nil, errors.New("it is no URL") // which is not repeated: it may hold a password
	case u.Scheme != "http" && u.Scheme != "https":
		return nil, errors.New("it does not begin with http:// or https://")
	case u.Hostname() == "" || strings.Trim(u.Path, "/") != "" || u.RawQuery != "" || u.Fragment != "":
		return nil, errors.New("it is not the address of a host")
	}
	if _, open := u.User.Password(); open {
		return nil, errors.New("it contains a password, which everybody could read who sees the settings")
	}
	switch user := u.User.Username(); {
	case user != "" && password != "":
		u.User = url.UserPassword(user, password)
	case password != "":
		return nil, errors.New("it names no user for the password")
	}
	return u, nil
}

// hostPort is the address of a proxy with its port.
func hostPort(u *url.URL) string {
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	return net.JoinHostPort(u.Hostname(), port)
}

// Address is the host and port that connections to a service are made to: its own, or those of the proxy.
func (t Target) Address() string {
	if t.Proxy != nil {
		return hostPort(t.Proxy)
	}
	return t.Endpoint
}

// Greet opens a connection to a service, or to the proxy before it, and closes it. It sends no request, since providers charge for each.
func Greet(ctx context.Context, t Target) error {
	if t.Plain || t.Proxy != nil {
		conn, err := new(net.Dialer).DialContext(ctx, "tcp", t.Address())
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

// SignIn checks an access key by listing buckets. A key that may not list them is accepted, too.
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

// forbidden reports whether the key is valid and lacks a right.
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

// Open opens a bucket, or a folder in it. With a key, its files are sealed.
func (a *Account) Open(ctx context.Context, name, folder string, key *seal.Key) (*Tree, error) {
	t := a.target
	t.Bucket, t.Prefix, t.Seal = name, folder, key
	return Dial(ctx, t)
}

// ErrTaken: a bucket of this name exists, of this account or another one.
var ErrTaken = errors.New("the bucket exists already")

// BucketTaken reports whether an account of the service has a bucket of this name.
func (a *Account) BucketTaken(ctx context.Context, name string) (bool, error) {
	there, err := a.core.BucketExists(ctx, name)
	if forbidden(err) || answerOf(err).Code == "PermanentRedirect" { // another account, or another region
		return true, nil
	}
	return there, classified(err)
}

// CreateBucket creates a bucket in the region of the account.
func (a *Account) CreateBucket(ctx context.Context, name string) error {
	err := a.core.MakeBucket(ctx, name, minio.MakeBucketOptions{Region: a.target.Region})
	switch answerOf(err).Code {
	case "BucketAlreadyExists", "BucketAlreadyOwnedByYou":
		return fmt.Errorf("%w: %w", ErrTaken, err)
	}
	return classified(err)
}

// RemoveBucket removes a bucket without objects, earlier versions and uploads.
func (a *Account) RemoveBucket(ctx context.Context, name string) error {
	err := a.core.RemoveBucket(ctx, name)
	if answerOf(err).Code == "BucketNotEmpty" {
		return fmt.Errorf("%w: %w", tree.ErrNotEmpty, err)
	}
	return classified(err)
}

// Clock is the difference between the clock of the service and ours, from its last answer, in whole seconds.
func (a *Account) Clock() time.Duration { return time.Duration(a.wire.clock.Load()) }

// Close closes idle connections.
func (a *Account) Close() error {
	a.wire.close()
	return nil
}

// wire is a transport that bounds the length of every answer except file content, and reads the clock of the
// service.
type wire struct {
	http.RoundTripper
	clock atomic.Int64
}

type contentKey struct{}

// ofContent returns a context for requests whose answer is file content.
func ofContent(ctx context.Context) context.Context {
	return context.WithValue(ctx, contentKey{}, true)
}

type pagesKey struct{}

// ofListing returns a context that counts the requests of one listing, so that a service cannot make it endless.
func ofListing(ctx context.Context) context.Context {
	return context.WithValue(ctx, pagesKey{}, new(atomic.Int64))
}

// mostPages bounds the requests of one listing. It is twice the number that the largest folder needs.
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
