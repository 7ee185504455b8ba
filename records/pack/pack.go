// Package pack gives many records of a replica the form of one value, as CBOR
// (RFC 8949): to keep each in a row of its own would take a database ten times as long.
//
// Permissions are told by the numbers under which they are stored elsewhere.
package pack

import (
	"fmt"
	"path"
	"slices"
	"time"

	"github.com/fxamacker/cbor/v2"

	"bridgespan/core/acl"
	"bridgespan/core/chunk"
	"bridgespan/core/replica"
)

// Number tells the number under which permissions are stored. It is not asked for none,
// whose number is 0.
type Number func(acl.Descriptor) (int64, error)

// Numbered tells the permissions that are stored under a number. It is not asked for 0.
type Numbered func(int64) (acl.Descriptor, error)

// Pack holds the records of paths that are right in one folder.
type Pack struct {
	_ struct{} `cbor:",toarray"`
	// Versions are those of the entries, of which most have the same.
	Versions []string
	Entries  []Entry

	parsed []replica.Vector
}

// Entry is a record in a pack. Times are nanoseconds since 1970, or the least number for
// none, versions are places in the list of the pack, descriptors are numbers.
type Entry struct {
	_              struct{} `cbor:",toarray"`
	Key            cbor.ByteString
	Kind           replica.Kind
	Name           cbor.ByteString
	Version        int
	Size           int64
	Modified       int64
	Digest         cbor.ByteString // empty when the file was not read
	Changed        int64
	By             replica.ID
	Moved          cbor.ByteString
	Permissions    int // their version
	Descriptor     int64
	Attributes     uint32
	Permitted      int64 // when they were changed, and where
	PermittedBy    replica.ID
	SeenSize       int64
	SeenModified   int64
	SeenFile       uint64
	SeenDescriptor int64
	SeenAttributes uint32
}

// Records packs records of what is right in one folder. What is pending is left out.
func Records(records []*replica.Record, number Number) ([]byte, error) {
	p := newPacker(len(records), number)
	for _, rec := range records {
		e := p.entry(path.Base(rec.Key), &rec.Content, &rec.Permissions)
		e.SeenSize, e.SeenModified, e.SeenFile, e.SeenAttributes = rec.Seen.Size, ToNano(rec.Seen.Modified), rec.Seen.ID, rec.Seen.Attributes
		e.SeenDescriptor = p.descriptor(rec.Seen.Descriptor)
	}
	if p.err != nil {
		return nil, p.err
	}
	return cbor.Marshal(&p.pack)
}

// Read reads what Records wrote. It returns an error for anything else.
func Read(content []byte) (*Pack, error) {
	p := &Pack{}
	if err := cbor.Unmarshal(content, p); err != nil {
		return nil, fmt.Errorf("a pack of records cannot be read: %w", err)
	}
	return p, p.check()
}

// check parses the versions, and reports an entry that is broken.
func (p *Pack) check() error {
	p.parsed = make([]replica.Vector, len(p.Versions))
	for i, text := range p.Versions {
		var err error
		if p.parsed[i], err = replica.ParseVector(text); err != nil {
			return fmt.Errorf("a pack of records cannot be read: %w", err)
		}
	}
	for i := range p.Entries {
		e := &p.Entries[i]
		if uint(e.Version) >= uint(len(p.Versions)) || uint(e.Permissions) >= uint(len(p.Versions)) ||
			len(e.Digest) != 0 && len(e.Digest) != len(chunk.Digest{}) || e.Kind > replica.Folder {
			return fmt.Errorf("a pack of records cannot be read: its entry %d is broken", i)
		}
	}
	return nil
}

// Record is the record that an entry of the pack holds, of what is right in a folder.
func (p *Pack) Record(folder string, e *Entry, numbered Numbered) (rec replica.Record, err error) {
	rec.Key = replica.Below(folder, string(e.Key))
	if rec.Content, rec.Permissions, err = p.content(e, numbered); err != nil {
		return rec, err
	}
	rec.Seen = replica.Seen{Size: e.SeenSize, Modified: FromNano(e.SeenModified), ID: e.SeenFile, Attributes: e.SeenAttributes}
	rec.Seen.Descriptor, err = descriptor(e.SeenDescriptor, numbered)
	return rec, err
}

// content is what is at a path, and who may do what with it.
func (p *Pack) content(e *Entry, numbered Numbered) (c replica.Content, permissions replica.Permissions, err error) {
	c = replica.Content{Version: p.parsed[e.Version], Kind: e.Kind, Name: string(e.Name),
		Size: e.Size, Modified: FromNano(e.Modified), Changed: FromNano(e.Changed), By: e.By, Moved: string(e.Moved)}
	copy(c.Digest[:], e.Digest)
	permissions = replica.Permissions{Version: p.parsed[e.Permissions], Attributes: e.Attributes, Changed: FromNano(e.Permitted), By: e.PermittedBy}
	permissions.Descriptor, err = descriptor(e.Descriptor, numbered)
	return c, permissions, err
}

func descriptor(number int64, numbered Numbered) (acl.Descriptor, error) {
	if number == 0 {
		return acl.Descriptor{}, nil
	}
	return numbered(number)
}

// packer makes a pack. The first error ends it.
type packer struct {
	pack   Pack
	places map[string]int // of versions
	last   replica.Vector // the one that was placed last, at lastAt; none where that is less than 0
	lastAt int
	number Number
	err    error
}

func newPacker(entries int, number Number) *packer {
	return &packer{pack: Pack{Entries: make([]Entry, 0, entries)}, places: map[string]int{}, lastAt: -1, number: number}
}

// entry adds what is at a path, and who may do what with it.
func (p *packer) entry(key string, c *replica.Content, permissions *replica.Permissions) *Entry {
	p.pack.Entries = append(p.pack.Entries, Entry{Key: cbor.ByteString(key), Kind: c.Kind, Name: cbor.ByteString(c.Name), Version: p.version(c.Version),
		Size: c.Size, Modified: ToNano(c.Modified), Changed: ToNano(c.Changed), By: c.By, Moved: cbor.ByteString(c.Moved),
		Permissions: p.version(permissions.Version), Descriptor: p.descriptor(permissions.Descriptor), Attributes: permissions.Attributes,
		Permitted: ToNano(permissions.Changed), PermittedBy: permissions.By})
	e := &p.pack.Entries[len(p.pack.Entries)-1]
	if c.Digest.Known() {
		e.Digest = cbor.ByteString(c.Digest[:])
	}
	return e
}

// version is the place of a version in the list of the pack.
func (p *packer) version(v replica.Vector) int {
	if p.lastAt >= 0 && slices.Equal(v, p.last) {
		return p.lastAt
	}
	text := v.String()
	at, known := p.places[text]
	if !known {
		at = len(p.pack.Versions)
		p.places[text], p.pack.Versions = at, append(p.pack.Versions, text)
	}
	p.last, p.lastAt = v, at
	return at
}

func (p *packer) descriptor(d acl.Descriptor) (number int64) {
	if !d.IsZero() && p.err == nil {
		number, p.err = p.number(d)
	}
	return number
}

// Times are kept to the nanosecond, since two are compared to tell whether a
// file changed; the zero time is the least number.
const noNano = -1 << 63

// ToNano is the form in which records keep times.
func ToNano(t time.Time) int64 {
	if t.IsZero() {
		return noNano
	}
	return t.UnixNano()
}

// FromNano reads what ToNano wrote.
func FromNano(n int64) time.Time {
	if n == noNano {
		return time.Time{}
	}
	return time.Unix(0, n).UTC()
}
