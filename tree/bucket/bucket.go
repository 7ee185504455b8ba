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
	"crypto/rand"
	"crypto/x509"
	"errors"
	"fmt"
	"net/url"
	"path"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
	"golang.org/x/sync/semaphore"

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
	wire   *wire
	top    string // what stands before each name in a key: "" or a prefix that ends with a slash
	known  descriptorNames
	memory *semaphore.Weighted // of uploads
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
	core, w, err := connect(t)
	if err != nil {
		return nil, err
	}
	b := &Tree{target: t, core: core, wire: w, memory: semaphore.NewWeighted(mostBuffered)}
	if prefix := strings.Trim(t.Prefix, "/"); prefix != "" {
		b.top = prefix + "/"
	}
	there, err := core.BucketExists(ctx, t.Bucket)
	if err == nil && !there {
		err = errNoBucket
	}
	if err != nil {
		return nil, errors.Join(pathError("open", ".", err), b.Close())
	}
	return b, nil
}

func (t *Tree) Capabilities() tree.Capabilities {
	return tree.Capabilities{CaseSensitive: true, Descriptors: true, PassiveDescriptors: true, MaxName: mostElement, Far: true,
		Versions: true, WholePuts: true, SlowRename: true, NoFolders: true}
}

// Space tells of room without an end: a quota is known when it is met.
func (t *Tree) Space(ctx context.Context) (tree.Space, error) {
	return tree.Space{Total: tree.Endless, Free: tree.Endless}, ctx.Err()
}

// MayWrite tries whether objects may be made and removed, with one of our own: a service does not tell.
func (t *Tree) MayWrite(ctx context.Context, folder string) error {
	if _, err := t.begin(ctx, "write", folder); err != nil {
		return err
	}
	key := t.below(folder) + tryFolder + rand.Text()
	_, err := t.core.PutObject(ctx, t.target.Bucket, key, strings.NewReader(""), 0, "", "", minio.PutObjectOptions{})
	if err == nil {
		if err = t.remove(ctx, key); err != nil {
			err = fmt.Errorf("objects can be made, and not removed: %w", err)
		}
	}
	return pathError("write", folder, err)
}

// tryFolder is where that is tried.
const tryFolder = ".bspan/try/"

// Close ends idle connections.
func (t *Tree) Close() error {
	t.wire.close()
	return nil
}

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
