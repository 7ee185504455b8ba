// Package bucket is a tree in a bucket of an object service that speaks S3, wherever it is.
//
// Objects are the plain files under their own paths, so that they can be used without Bridge Span. Their
// times, hash and descriptor are metadata; a descriptor that is too long for that is an object of its own. A
// folder that somebody made is an empty object whose key ends with a slash; others are there for as long as
// something is in them. What others put into the bucket is taken as it is.
//
// An object is written at once, or in parts that nobody sees before they are complete. It has no rename: that is
// a copy within the service, and a removal.
package bucket

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"io"
	"net/http"
	"net/url"
	"path"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	rules "bridgespan/core/bucket"
	"bridgespan/tree"
)

// Target is a bucket, or a folder in it, and who opens it.
type Target struct {
	Endpoint  string // host and port of the service
	Plain     bool   // without TLS
	Region    string
	Bucket    string
	Prefix    string // folder of the bucket that is the top; "" is all of it
	PathStyle bool   // the bucket is in the path, not in front of the host
	Key       string // of access
	Secret    string
	Roots     *x509.CertPool // authorities of the service; nil is those of the system
	Proxy     *url.URL       // nil is none
}

// Tree is a tree in a bucket.
type Tree struct {
	target Target
	core   *minio.Core
	top    string // what stands before each name in a key: "" or a prefix that ends with a slash
	known  descriptorNames
}

// How requests are made.
const (
	attempts   = 4 // of one request, when the service is busy or a connection ends
	connecting = 10 * time.Second
	mostIdle   = 64
	mostHeader = 64 << 10
	mostAnswer = 16 << 20 // of what is no content of a file
)

// Dial opens the tree of a target. It returns an error that says what is wrong when the bucket cannot be opened.
func Dial(ctx context.Context, t Target) (*Tree, error) {
	transport := &http.Transport{
		MaxIdleConns: mostIdle, MaxIdleConnsPerHost: mostIdle, IdleConnTimeout: time.Minute, MaxResponseHeaderBytes: mostHeader,
		TLSHandshakeTimeout: connecting, ResponseHeaderTimeout: time.Minute, TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: t.Roots},
		DisableCompression: true,
	}
	if t.Proxy != nil {
		transport.Proxy = http.ProxyURL(t.Proxy)
	}
	lookup := minio.BucketLookupDNS
	if t.PathStyle || !rules.HostStyle(t.Bucket, !t.Plain) {
		lookup = minio.BucketLookupPath
	}
	core, err := minio.NewCore(t.Endpoint, &minio.Options{
		Creds: credentials.NewStaticV4(t.Key, t.Secret, ""), Secure: !t.Plain, Region: t.Region, BucketLookup: lookup,
		MaxRetries: attempts, Transport: bounded{transport},
	})
	if err != nil {
		return nil, err
	}
	b := &Tree{target: t, core: core}
	if prefix := strings.Trim(t.Prefix, "/"); prefix != "" {
		b.top = prefix + "/"
	}
	there, err := core.BucketExists(ctx, t.Bucket)
	if err == nil && !there {
		err = errNoBucket
	}
	if err != nil {
		return nil, pathError("open", ".", err)
	}
	return b, nil
}

// bounded is a transport whose answers are no longer than they may be, but for what files hold.
type bounded struct{ http.RoundTripper }

type contentKey struct{}

// ofContent returns a context for requests that are answered with what a file holds.
func ofContent(ctx context.Context) context.Context {
	return context.WithValue(ctx, contentKey{}, true)
}

func (b bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := b.RoundTripper.RoundTrip(r)
	if err == nil && r.Context().Value(contentKey{}) == nil {
		answer.Body = struct {
			io.Reader
			io.Closer
		}{io.LimitReader(answer.Body, mostAnswer), answer.Body}
	}
	return answer, err
}

func (t *Tree) Capabilities() tree.Capabilities {
	return tree.Capabilities{CaseSensitive: true, Descriptors: true, PassiveDescriptors: true, MaxName: mostElement, Far: true,
		Versions: true, WholePuts: true, SlowRename: true, NoFolders: true}
}

// endless is the room in a bucket: nobody tells of an end.
const endless = 1 << 60

// Space tells of room without an end: a quota is known when it is met.
func (t *Tree) Space(ctx context.Context) (tree.Space, error) {
	return tree.Space{Total: endless, Free: endless}, ctx.Err()
}

// Close ends idle connections.
func (t *Tree) Close() error { return nil }

// mostElement is the longest element of a name: servers that the files go to allow no more.
const mostElement = 255

// begin checks a name, and returns its key.
func (t *Tree) begin(ctx context.Context, op, name string) (key string, err error) {
	if err := tree.CheckName(op, name); err != nil {
		return "", err
	}
	for element := range strings.SplitSeq(name, "/") {
		if len(element) > mostElement {
			return "", tree.PathError(op, name, errLongElement)
		}
	}
	if name == "." {
		return strings.TrimSuffix(t.top, "/"), ctxError(ctx, op, name)
	}
	if err := rules.CheckKey("path", t.top+name); err != nil {
		return "", tree.PathError(op, name, invalid{err})
	}
	return t.top + name, ctxError(ctx, op, name)
}

func ctxError(ctx context.Context, op, name string) error {
	if err := ctx.Err(); err != nil {
		return tree.PathError(op, name, err)
	}
	return nil
}

// below is what stands before the keys of what is in a folder.
func (t *Tree) below(name string) string {
	if name == "." {
		return t.top
	}
	return t.top + name + "/"
}

// rootMark is the object that holds what goes with the top: it has no key of its own.
const rootMark = ".bspan/top"

// mark is the key of the object of a folder that somebody made.
func (t *Tree) mark(name string) string {
	if name == "." {
		return t.top + rootMark
	}
	return t.top + name + "/"
}

func base(name string) string { return path.Base(name) }
