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

// packOf makes a pack of records, whose names are in order.
func packOf(ctx context.Context, q Queries, records []*replica.Record, ids DescriptorIDs) ([]byte, error) {
	p := pack{Records: make([]packed, len(records))}
	places := map[string]int{}
	version := func(v replica.Vector) int {
		text := v.String()
		at, known := places[text]
		if !known {
			at = len(p.Versions)
			places[text], p.Versions = at, append(p.Versions, text)
		}
		return at
	}
	for i, rec := range records {
		descriptor, err := ids.id(ctx, q, rec.Permissions.Descriptor)
		if err != nil {
			return nil, err
		}
		seen, err := ids.id(ctx, q, rec.Seen.Descriptor)
		if err != nil {
			return nil, err
		}
		p.Records[i] = packed{NameKey: cbor.ByteString(path.Base(rec.Key)), Kind: rec.Kind, Name: cbor.ByteString(rec.Name), Version: version(rec.Version),
			Size: rec.Size, Modified: toNano(rec.Modified), Changed: toNano(rec.Changed), By: rec.By, Moved: cbor.ByteString(rec.Moved),
			Permissions: version(rec.Permissions.Version), Descriptor: descriptor, Attributes: rec.Permissions.Attributes, Permitted: toNano(rec.Permissions.Changed), PermittedBy: rec.Permissions.By,
			SeenSize: rec.Seen.Size, SeenModified: toNano(rec.Seen.Modified), SeenFile: rec.Seen.ID, SeenDescriptor: seen, SeenAttributes: rec.Seen.Attributes}
		if rec.Digest.Known() {
			p.Records[i].Digest = cbor.ByteString(rec.Digest[:])
		}
	}
	return cbor.Marshal(&p)
}

// readPack reads what packOf wrote.
func readPack(content []byte) (p pack, err error) {
	if err := cbor.Unmarshal(content, &p); err != nil {
		return p, fmt.Errorf("a pack of records cannot be read: %w", err)
	}
	for i := range p.Records {
		e := &p.Records[i]
		if uint(e.Version) >= uint(len(p.Versions)) || uint(e.Permissions) >= uint(len(p.Versions)) || len(e.Digest) != 0 && len(e.Digest) != len(replica.Digest{}) {
			return p, fmt.Errorf("a pack of records cannot be read: its record %d is broken", i)
		}
	}
	return p, nil
}

// records are those of a pack of what is right in a folder, as far as they are wanted.
func (p *pack) records(ctx context.Context, q Queries, folder string, known *descriptors, wanted func(key string) bool) ([]replica.Record, error) {
	versions := make([]replica.Vector, len(p.Versions))
	for i, text := range p.Versions {
		var err error
		if versions[i], err = replica.ParseVector(text); err != nil {
			return nil, err
		}
	}
	list := make([]replica.Record, 0, len(p.Records))
	for i := range p.Records {
		e := &p.Records[i]
		key := path.Join(folder, string(e.NameKey))
		if !wanted(key) {
			continue
		}
		rec := replica.Record{Key: key, Content: replica.Content{Version: versions[e.Version], Kind: e.Kind, Name: string(e.Name),
			Size: e.Size, Modified: fromNano(e.Modified), Changed: fromNano(e.Changed), By: e.By, Moved: string(e.Moved)},
			Permissions: replica.Permissions{Version: versions[e.Permissions], Attributes: e.Attributes, Changed: fromNano(e.Permitted), By: e.PermittedBy},
			Seen:        replica.Seen{Size: e.SeenSize, Modified: fromNano(e.SeenModified), ID: e.SeenFile, Attributes: e.SeenAttributes}}
		copy(rec.Digest[:], e.Digest)
		var err error
		if rec.Permissions.Descriptor, err = known.numbered(ctx, q, e.Descriptor); err != nil {
			return nil, err
		}
		if rec.Seen.Descriptor, err = known.numbered(ctx, q, e.SeenDescriptor); err != nil {
			return nil, err
		}
		list = append(list, rec)
	}
	return list, nil
}
