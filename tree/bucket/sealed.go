package bucket

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"strings"
	"sync"

	"github.com/minio/minio-go/v7"
	"github.com/zeebo/blake3"

	"bridgespan/tree"
	"bridgespan/tree/bucket/seal"
)

// sealedAge in the metadata says that the content is encrypted in the age format.
const sealedAge = "age"

// sealedPrefix begins the text of metadata that is encrypted. Metadata without it is plain: an object that others
// wrote keeps its plain content when its permissions are changed here.
const sealedPrefix = "sealed:"

// Purposes of sealed values.
const (
	hashValue       = "hash"
	descriptorValue = "descriptor"
)

// writeValue returns the text of a value in the metadata: sealed, or as encode writes it.
func (t *Tree) writeValue(purpose string, value []byte, encode func([]byte) string) string {
	if t.target.Seal == nil {
		return encode(value)
	}
	return sealedPrefix + base64.StdEncoding.EncodeToString(t.target.Seal.SealValue(purpose, value))
}

// readValue reads a value from its text in the metadata.
func (t *Tree) readValue(purpose, text string, decode func(string) ([]byte, error)) ([]byte, error) {
	sealed, is := strings.CutPrefix(text, sealedPrefix)
	if !is {
		return decode(text)
	}
	raw, err := base64.StdEncoding.DecodeString(sealed)
	if err != nil {
		return nil, err
	}
	return t.openValue(purpose, raw)
}

func (t *Tree) openValue(purpose string, sealed []byte) ([]byte, error) {
	if t.target.Seal == nil {
		return nil, fmt.Errorf("%w: a sealed %s, without a key", tree.ErrUnsupported, purpose)
	}
	return t.target.Seal.OpenValue(purpose, sealed)
}

// descriptorName is the name of a long descriptor: its hash, which only holders of the key can compute when it is sealed.
func (t *Tree) descriptorName(raw []byte) string {
	if t.target.Seal == nil {
		sum := blake3.Sum256(raw)
		return hex.EncodeToString(sum[:])
	}
	return sealedPrefix + hex.EncodeToString(t.target.Seal.Fingerprint(raw))
}

func (t *Tree) descriptorKey(name string) string {
	return t.top + descriptorFolder + strings.TrimPrefix(name, sealedPrefix)
}

// isSealed reports whether the content of an object is sealed, and can be opened here.
func (t *Tree) isSealed(meta map[string]string) bool {
	return t.target.Seal != nil && meta[metaSealed] == sealedAge
}

// contentSize is the length of the content of an object. A sealed one whose length is not possible was changed by others: it has a
// length with which it cannot be read.
func (t *Tree) contentSize(stored int64, meta map[string]string) int64 {
	if !t.isSealed(meta) {
		return stored
	}
	if size, ok := seal.ContentSize(stored); ok {
		return size
	}
	return stored + 1
}

// inListing describes a file by a listing, which tells no metadata: an object is sealed when its length allows that, unless it is known to be
// plain.
func (t *Tree) inListing(name string, o minio.ObjectInfo) tree.Entry {
	if _, possible := seal.ContentSize(o.Size); possible && t.target.Seal != nil && !seal.Plain(strings.TrimPrefix(o.Key, t.top)) && !t.plain.has(o.Key, o.ETag) {
		o.UserMetadata = map[string]string{metaSealed: sealedAge}
	}
	return t.entry(name, o)
}

// plainObjects remembers objects of a sealed tree that are not sealed, by key, with their versions. It forgets all when there are
// too many: then a listing tells a wrong length until the object is looked at.
type plainObjects struct {
	mu       sync.Mutex
	versions map[string]string
}

const mostPlain = 100_000

func (p *plainObjects) has(key, version string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.versions[key] == version && version != ""
}

func (p *plainObjects) add(key, version string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.versions == nil || len(p.versions) >= mostPlain {
		p.versions = map[string]string{}
	}
	p.versions[key] = version
}

// newContent opens an object whose first bytes are those of body, if it is not nil. An entry is sealed when the length of its content is not
// that of the object.
func (t *Tree) newContent(ctx context.Context, name string, e tree.Entry, body io.ReadCloser) tree.Content {
	stored := cmp.Or(e.Allocated, e.Size)
	raw := &content{tree: t, ctx: ctx, name: name, entry: e, size: stored, body: body, ended: -1, until: stored}
	if body != nil {
		raw.to = min(alone, stored)
	}
	if t.target.Seal == nil || stored == e.Size {
		return raw
	}
	return &sealedContent{raw: raw, content: t.target.Seal.Content(raw, e.Size)}
}

// sealedContent is an open file that is sealed.
type sealedContent struct {
	raw     *content
	content *seal.Content
}

func (c *sealedContent) Entry() tree.Entry { return c.raw.entry }
func (c *sealedContent) Close() error      { return c.raw.Close() }

func (c *sealedContent) ReadAt(p []byte, off int64) (int, error) {
	n, err := c.content.ReadAt(p, off)
	if err != nil && err != io.EOF {
		err = pathError("read", c.raw.name, err)
	}
	return n, err
}

// Until follows [content.Until].
func (c *sealedContent) Until(offset int64) {
	c.raw.Until(seal.End(offset))
}
