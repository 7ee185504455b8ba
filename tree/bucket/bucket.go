// Package bucket is a tree in a bucket of an S3 object service.
//
// Objects are plain files under their own paths, so that other clients can use them. Times, hash and descriptor
// are metadata; a descriptor that is too long for metadata is an object of its own. A folder made by Mkdir is an
// empty object whose key ends with a slash; other folders exist while they contain something. Objects of
// other clients are taken as they are.
//
// With a key, contents, hashes and descriptors are encrypted before they are sent, and names where that is wanted: see package
// seal. What is directly in .bspan stays plain.
//
// A file is written by one request, or in parts that become visible when the upload is completed. A rename is a
// copy within the service and a removal.
package bucket

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
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
	"bridgespan/tree/bucket/seal"
)

// Target is a bucket, or a folder in it, and the access key to open it with.
type Target struct {
	Endpoint  string // host and port of the service
	Plain     bool   // without TLS
	Region    string
	Bucket    string
	Prefix    string // folder of the bucket that is the root; "" is the whole bucket
	PathStyle bool   // the bucket name is in the path, not in the host name
	Key       string // access key
	Secret    string
	Roots     *x509.CertPool // CAs; nil means those of the system
	Proxy     *url.URL       // HTTP proxy to the service; nil means none
	// Seal encrypts the files; nil leaves them plain. Where it encrypts their names as well, objects of other clients are not seen.
	Seal *seal.Key
}

// Tree is a tree in a bucket.
type Tree struct {
	target Target
	core   *minio.Core
	wire   *wire
	top    string // prefix of all keys: "" or a path that ends with a slash
	known  descriptorNames
	memory *semaphore.Weighted // of uploads
	plain  plainObjects
}

// Bounds of requests and answers.
const (
	attempts   = 4 // for one request, when the service is busy or the connection is lost
	connecting = 10 * time.Second
	mostIdle   = 64
	mostHeader = 64 << 10
	mostAnswer = 16 << 20 // except file content
)

// Dial opens a bucket. It returns an error wrapping ErrKey, tree.ErrUnreachable or fs.ErrPermission when that fails.
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
		Versions: true, Digests: rules.UsualPart, CostlyDetail: true, WholePuts: true, SlowRename: true, NoFolders: true}
}

// Space reports endless room: services do not report quotas.
func (t *Tree) Space(ctx context.Context) (tree.Space, error) {
	return tree.Space{Total: tree.Endless, Free: tree.Endless}, ctx.Err()
}

// MayWrite creates and removes an object below tryFolder: services do not report the rights of a key.
func (t *Tree) MayWrite(ctx context.Context, folder string) error {
	if _, err := t.begin(ctx, "write", folder); err != nil {
		return err
	}
	key := t.below(folder) + tryFolder + rand.Text()
	_, err := t.core.PutObject(ctx, t.target.Bucket, key, strings.NewReader(""), 0, "", "", minio.PutObjectOptions{})
	if err == nil {
		if err = t.remove(ctx, key); err != nil {
			err = fmt.Errorf("objects can be created but not removed: %w", err)
		}
	}
	return pathError("write", folder, err)
}

// tryFolder holds the objects of MayWrite.
const tryFolder = ".bspan/try/"

// Ping measures how long the service takes to answer a request on an open connection.
func (t *Tree) Ping(ctx context.Context) (time.Duration, error) {
	began := time.Now()
	_, err := t.core.BucketExists(ctx, t.target.Bucket)
	return time.Since(began), classified(err)
}

// Close closes idle connections.
func (t *Tree) Close() error {
	t.wire.close()
	return nil
}

// mostElement is the longest element of a name, in bytes: file servers allow no more.
const mostElement = 255

// begin checks a name and returns its key.
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
	key = t.key(name)
	if err := rules.CheckKey("path", key); err != nil {
		return "", tree.PathError(op, name, invalid{err})
	}
	return key, ctxError(ctx, op, name)
}

// key is the key of a file.
func (t *Tree) key(name string) string {
	if t.target.Seal != nil {
		name = t.target.Seal.Path(name)
	}
	return t.top + name
}

func ctxError(ctx context.Context, op, name string) error {
	if err := ctx.Err(); err != nil {
		return tree.PathError(op, name, err)
	}
	return nil
}

// below is the prefix of the keys in a folder.
func (t *Tree) below(name string) string {
	if name == "." {
		return t.top
	}
	return t.key(name) + "/"
}

// rootMark is the object that holds the metadata of the root, which has no key of its own.
const rootMark = ".bspan/top"

// mark is the key of the object of a folder that was made by Mkdir.
func (t *Tree) mark(name string) string {
	if name == "." {
		return t.top + rootMark
	}
	return t.key(name) + "/"
}

func base(name string) string { return path.Base(name) }

// StoreID follows [tree.Stored]: it is a hash of the service, the bucket, the folder in it, and the key of sealed files.
func (t *Tree) StoreID(context.Context) (string, error) {
	text := fmt.Sprintf("%q %q %q", t.target.Endpoint, t.target.Bucket, t.top)
	if k := t.target.Seal; k != nil {
		text += fmt.Sprintf(" %q %t", k.Recipient(), k.SealsNames())
	}
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:]), nil
}
