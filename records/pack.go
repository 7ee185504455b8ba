package records

import (
	"context"
	"fmt"
	"path"

	"github.com/fxamacker/cbor/v2"

	"bridgespan/core/replica"
)

// A pack holds the records of paths right in one folder, as CBOR (RFC 8949): a row
// for each would take the database ten times as long. A pack is written once, of paths
// that have no record yet, and never changed: what becomes of a path later is a
// row of its own, which stands above the pack.

// pack is the content of a pack. Versions are those of its records, which are the
// same for most.
type pack struct {
	_        struct{} `cbor:",toarray"`
	Versions []string
	Records  []packed
}

// packed is a record in a pack. Times are nanoseconds since 1970, versions places in
// the list of the pack, descriptors their numbers, 0 for none.
type packed struct {
	_              struct{} `cbor:",toarray"`
	NameKey        cbor.ByteString
	Kind           replica.Kind
	Name           cbor.ByteString
	Version        int
	Size           int64
	Modified       int64
	Digest         cbor.ByteString // empty when the file was not read
	Changed        int64
	By             replica.ID
	Moved          cbor.ByteString
	Permissions    int
	Descriptor     int64
	Attributes     uint32
	Permitted      int64
	PermittedBy    replica.ID
	SeenSize       int64
	SeenModified   int64
	SeenFile       uint64
	SeenDescriptor int64
	SeenAttributes uint32
}

// packer makes packs.
type packer struct {
	ctx    context.Context
	q      Queries
	ids    DescriptorIDs
	pack   pack
	places map[string]int // of versions
}

// packOf makes a pack of records, whose names are in order.
func packOf(ctx context.Context, q Queries, records []*replica.Record, ids DescriptorIDs) ([]byte, error) {
	p := &packer{ctx: ctx, q: q, ids: ids, pack: pack{Records: make([]packed, len(records))}}
	for i, rec := range records {
		if err := p.put(&p.pack.Records[i], path.Base(rec.Key), &rec.Content, &rec.Permissions); err != nil {
			return nil, err
		}
		seen, err := ids.id(ctx, q, rec.Seen.Descriptor)
		if err != nil {
			return nil, err
		}
		e := &p.pack.Records[i]
		e.SeenSize, e.SeenModified, e.SeenFile, e.SeenDescriptor, e.SeenAttributes = rec.Seen.Size, toNano(rec.Seen.Modified), rec.Seen.ID, seen, rec.Seen.Attributes
	}
	return cbor.Marshal(&p.pack)
}

// version is the place of a version in the list of the pack.
func (p *packer) version(v replica.Vector) int {
	text := v.String()
	at, known := p.places[text]
	if !known {
		if p.places == nil {
			p.places = map[string]int{}
		}
		at = len(p.pack.Versions)
		p.places[text], p.pack.Versions = at, append(p.pack.Versions, text)
	}
	return at
}

// put puts what is at a path, and who may do what with it, into a pack.
func (p *packer) put(e *packed, key string, c *replica.Content, permissions *replica.Permissions) error {
	descriptor, err := p.ids.id(p.ctx, p.q, permissions.Descriptor)
	*e = packed{NameKey: cbor.ByteString(key), Kind: c.Kind, Name: cbor.ByteString(c.Name), Version: p.version(c.Version),
		Size: c.Size, Modified: toNano(c.Modified), Changed: toNano(c.Changed), By: c.By, Moved: cbor.ByteString(c.Moved),
		Permissions: p.version(permissions.Version), Descriptor: descriptor, Attributes: permissions.Attributes, Permitted: toNano(permissions.Changed), PermittedBy: permissions.By}
	if c.Digest.Known() {
		e.Digest = cbor.ByteString(c.Digest[:])
	}
	return err
}

// readPack reads what packOf wrote.
func readPack(content []byte) (p pack, err error) {
	if err := cbor.Unmarshal(content, &p); err != nil {
		return p, fmt.Errorf("a pack of records cannot be read: %w", err)
	}
	return p, p.check()
}

// check reports records that are broken.
func (p *pack) check() error {
	for i := range p.Records {
		e := &p.Records[i]
		if uint(e.Version) >= uint(len(p.Versions)) || uint(e.Permissions) >= uint(len(p.Versions)) || len(e.Digest) != 0 && len(e.Digest) != len(replica.Digest{}) || e.Kind > replica.Folder {
			return fmt.Errorf("a pack of records cannot be read: its record %d is broken", i)
		}
	}
	return nil
}

// unpacker reads the records of a pack.
type unpacker struct {
	ctx         context.Context
	q           Queries
	permissions *descriptors
	pack        *pack
	versions    []replica.Vector
}

func (p *pack) unpacker(ctx context.Context, q Queries, permissions *descriptors) (*unpacker, error) {
	u := &unpacker{ctx: ctx, q: q, permissions: permissions, pack: p, versions: make([]replica.Vector, len(p.Versions))}
	for i, text := range p.Versions {
		var err error
		if u.versions[i], err = replica.ParseVector(text); err != nil {
			return nil, err
		}
	}
	return u, nil
}

// content is what is at a path, and who may do what with it.
func (u *unpacker) content(e *packed) (c replica.Content, permissions replica.Permissions, err error) {
	c = replica.Content{Version: u.versions[e.Version], Kind: e.Kind, Name: string(e.Name),
		Size: e.Size, Modified: fromNano(e.Modified), Changed: fromNano(e.Changed), By: e.By, Moved: string(e.Moved)}
	copy(c.Digest[:], e.Digest)
	permissions = replica.Permissions{Version: u.versions[e.Permissions], Attributes: e.Attributes, Changed: fromNano(e.Permitted), By: e.PermittedBy}
	permissions.Descriptor, err = u.permissions.numbered(u.ctx, u.q, e.Descriptor)
	return c, permissions, err
}

// record is a record of what is right in a folder.
func (u *unpacker) record(key string, e *packed) (rec replica.Record, err error) {
	rec.Key = key
	if rec.Content, rec.Permissions, err = u.content(e); err != nil {
		return rec, err
	}
	rec.Seen = replica.Seen{Size: e.SeenSize, Modified: fromNano(e.SeenModified), ID: e.SeenFile, Attributes: e.SeenAttributes}
	rec.Seen.Descriptor, err = u.permissions.numbered(u.ctx, u.q, e.SeenDescriptor)
	return rec, err
}
