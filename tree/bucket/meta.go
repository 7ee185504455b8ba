package bucket

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/minio/minio-go/v7"

	"bridgespan/core/acl"
	rules "bridgespan/core/bucket"
	"bridgespan/core/chunk"
	"bridgespan/tree"
)

// Names of metadata, without the prefix x-amz-meta-. Objects of other clients have none of them.
const (
	metaModified     = "Bspan-Modified"      // modification time (RFC 3339)
	metaAttributes   = "Bspan-Attributes"    // DOS attributes, as a number
	metaHash         = "Bspan-Hash"          // BLAKE3 of its content, in hex
	metaDescriptor   = "Bspan-Descriptor"    // self-relative ([MS-DTYP] 2.4.6), in base64
	metaDescriptorAt = "Bspan-Descriptor-At" // or the name of the object in descriptorFolder
	metaSealed       = "Bspan-Sealed"        // sealedAge when the content is encrypted
)

// descriptorFolder holds descriptors that are too long for metadata, each under its own hash. Such an object never
// changes, and many files share it.
const descriptorFolder = ".bspan/descriptors/"

// mostDescriptor bounds a descriptor: an access list has at most 64 KiB.
const mostDescriptor = 128 << 10

// entry describes a file by the metadata of its object.
func (t *Tree) entry(name string, o minio.ObjectInfo) tree.Entry {
	stored := min(max(o.Size, 0), rules.MostSize) // the service may send anything
	e := tree.Entry{Name: base(name), Kind: tree.File, Size: t.contentSize(stored, o.UserMetadata), Allocated: stored, Modified: o.LastModified.UTC(), Version: o.ETag}
	if at, err := time.Parse(time.RFC3339Nano, o.UserMetadata[metaModified]); err == nil {
		e.Modified = at.UTC()
	}
	if bits, err := strconv.ParseUint(o.UserMetadata[metaAttributes], 10, 32); err == nil {
		e.Attributes = tree.Attributes(bits) & tree.SettableAttributes
	}
	if sum, err := t.readValue(hashValue, o.UserMetadata[metaHash], hex.DecodeString); err == nil && len(sum) == len(e.Digest) {
		e.Digest = chunk.Digest(sum)
	}
	return e
}

// folder describes a folder; o is its object, or nil.
func (t *Tree) folder(name string, o *minio.ObjectInfo) tree.Entry {
	e := tree.Entry{Name: base(name), Kind: tree.Folder, Modified: time.Unix(0, 0).UTC()}
	if o != nil {
		made := t.entry(name, *o)
		e.Modified, e.Attributes = made.Modified, made.Attributes
	}
	return e
}

// changed returns metadata with the changes of meta.
func (t *Tree) changed(ctx context.Context, before map[string]string, meta tree.Meta) (map[string]string, error) {
	after := map[string]string{}
	for name, value := range before {
		after[name] = value
	}
	if !meta.Modified.IsZero() {
		after[metaModified] = meta.Modified.UTC().Format(time.RFC3339Nano)
	}
	if meta.Attributes != nil {
		after[metaAttributes] = strconv.FormatUint(uint64(*meta.Attributes&tree.SettableAttributes), 10)
	}
	if meta.Descriptor.IsZero() {
		return after, nil
	}
	delete(after, metaDescriptor)
	delete(after, metaDescriptorAt)
	raw := meta.Descriptor.Binary()
	after[metaDescriptor] = t.writeValue(descriptorValue, raw, base64.StdEncoding.EncodeToString)
	if rules.MetaSize(after) <= rules.MostMeta {
		return after, nil
	}
	delete(after, metaDescriptor)
	at, err := t.keepDescriptor(ctx, raw)
	after[metaDescriptorAt] = at
	return after, err
}

// descriptorNames remembers descriptors that are stored in descriptorFolder.
type descriptorNames struct {
	mu    sync.Mutex
	names map[string][]byte
}

// mostKnown bounds the descriptors that are remembered.
const mostKnown = 1000

func (d *descriptorNames) get(name string) []byte {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.names[name]
}

func (d *descriptorNames) add(name string, raw []byte) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.names == nil || len(d.names) >= mostKnown {
		d.names = map[string][]byte{}
	}
	d.names[name] = raw
}

// keepDescriptor stores a long descriptor and returns its name.
func (t *Tree) keepDescriptor(ctx context.Context, raw []byte) (string, error) {
	name, kept := t.descriptorName(raw), raw
	if t.known.get(name) != nil {
		return name, nil
	}
	if t.target.Seal != nil {
		kept = t.target.Seal.SealValue(descriptorValue, raw)
	}
	_, err := t.core.PutObject(ctx, t.target.Bucket, t.descriptorKey(name), bytes.NewReader(kept), int64(len(kept)), "", "", minio.PutObjectOptions{})
	if err == nil {
		t.known.add(name, raw)
	}
	return name, err
}

// descriptor returns the descriptor of an object, which is zero when none was set.
func (t *Tree) descriptor(ctx context.Context, o minio.ObjectInfo) (acl.Descriptor, error) {
	if text := o.UserMetadata[metaDescriptor]; text != "" {
		raw, err := t.readValue(descriptorValue, text, base64.StdEncoding.DecodeString)
		if err != nil {
			return acl.Descriptor{}, err
		}
		return acl.FromBinary(raw)
	}
	name := o.UserMetadata[metaDescriptorAt]
	if name == "" {
		return acl.Descriptor{}, nil
	}
	if raw := t.known.get(name); raw != nil {
		return acl.FromBinary(raw)
	}
	if sum, err := hex.DecodeString(strings.TrimPrefix(name, sealedPrefix)); err != nil || len(sum) != 32 {
		return acl.Descriptor{}, fmt.Errorf("the descriptor is kept at %.80q, which is no name of one", name)
	}
	raw, err := t.fetchDescriptor(ctx, name)
	if err != nil {
		return acl.Descriptor{}, err
	}
	t.known.add(name, raw)
	return acl.FromBinary(raw)
}

func (t *Tree) fetchDescriptor(ctx context.Context, name string) ([]byte, error) {
	r, _, _, err := t.core.GetObject(ctx, t.target.Bucket, t.descriptorKey(name), minio.GetObjectOptions{})
	if err != nil {
		return nil, err
	}
	defer r.Close()
	raw, err := io.ReadAll(io.LimitReader(r, mostDescriptor))
	if err == nil && strings.HasPrefix(name, sealedPrefix) {
		raw, err = t.openValue(descriptorValue, raw)
	}
	if err != nil {
		return nil, err
	}
	if t.descriptorName(raw) != name {
		return nil, fmt.Errorf("%w: a descriptor", tree.ErrAltered)
	}
	return raw, nil
}
