// Package replica holds the rules by which the replicas of a set become and
// stay the same. It is pure: records in, decisions out.
//
// Of every path and replica there is a [Record] of what was last seen there,
// with two versions: one of the content (that it is there, its bytes, its name
// and time) and one of its permissions, so that a changed permission and a
// changed content do not fight. A change made at a replica advances the version
// there. [Decide] compares the records of a path at the two ends of a lane: a
// version that has all changes of the other one travels; where each has changes
// that the other lacks, both ends choose the same winner.
//
// The choice is the greatest by an order over all contents, and what comes of it
// has the changes of both. So it does not matter in which order, and at which
// replicas, conflicts are met: all replicas end with the same.
package replica

import (
	"bytes"
	"cmp"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/chunk"
)

// Kind is what lies at a path.
type Kind uint8

const (
	None Kind = iota // nothing: it never was there, or was removed
	File
	Folder
)

func (k Kind) String() string { return [...]string{"none", "file", "folder"}[k] }

// Content is one version of what lies at a path.
type Content struct {
	Version  Vector
	Kind     Kind
	Name     string       // last element as it is spelled; of a removed one too
	Size     int64        // bytes; files only
	Modified time.Time    // files only
	Digest   chunk.Digest // files only
	// Changed is when the change was made, as far as the replica knows, and By
	// the replica where: they decide conflicts.
	Changed time.Time
	By      ID
	// Moved is the key of the path where it was before it was renamed; "" when
	// it was not. It saves a transfer and decides nothing.
	Moved string
}

// Permissions is one version of who may do what with what lies at a path.
type Permissions struct {
	Version    Vector
	Descriptor acl.Descriptor // zero where the replica keeps none
	Attributes uint32
	Changed    time.Time
	By         ID
}

// Seen is how a replica itself shows what lies at a path. It tells changes made
// there from what is only kept otherwise than it was sent: times are rounded,
// descriptors completed.
type Seen struct {
	Size       int64
	Modified   time.Time
	ID         uint64 // of the file, or of its version, where the replica tells; 0 where unknown
	Descriptor acl.Descriptor
	Attributes uint32
}

// Record is what is known of one path at one replica. The zero value knows of
// nothing there.
type Record struct {
	Key string // of the path within the replica, as names are compared
	Content
	Permissions Permissions
	Seen        Seen
	// Pending is what is being done here, written before it is done.
	Pending *Pending
}

// Pending is a change of what lies at a path that has been begun: as it will be
// when done, and where things are meanwhile.
type Pending struct {
	Content     Content
	Permissions Permissions
	// Staged is where what comes waits; "" when it does not wait.
	Staged string
	// Attic is where what stands there goes; "" when it goes nowhere.
	Attic string
}

// Below is the path of what is right in a folder and has a name; "." is the top.
func Below(folder, name string) string {
	if folder == "." {
		return name
	}
	return folder + "/" + name
}

// Prior reports whether a record is of something that a replica held before it
// belonged to the set: it gives way to what the set has, and is kept in the attic.
func (r *Record) Prior() bool { return r.Kind != None && len(r.Version) == 0 }

// TimeTolerance is how far apart the times of equal files may be: some file
// systems keep them to two seconds.
const TimeTolerance = 2 * time.Second

// Same reports whether two contents do not differ in anything that people see.
func (c *Content) Same(d *Content) bool {
	switch {
	case c.Kind != d.Kind:
		return false
	case c.Kind == None:
		return true
	case c.Name != d.Name:
		return false
	case c.Kind == Folder:
		return true
	}
	return c.SameBytes(d) && c.Modified.Sub(d.Modified).Abs() <= TimeTolerance
}

// SameBytes reports whether both are files that are known to hold the same.
func (c *Content) SameBytes(d *Content) bool {
	return c.Kind == File && d.Kind == File && c.Size == d.Size && c.Digest == d.Digest && c.Digest.Known()
}

// compare orders contents: the greatest wins a conflict. What is there beats
// what was removed, a folder beats a file, the later change the earlier one;
// among equals the lower replica wins, and then anything that is the same everywhere.
func (c *Content) compare(d *Content) int {
	return cmp.Or(
		cmp.Compare(c.Kind, d.Kind),
		c.Changed.Compare(d.Changed),
		cmp.Compare(d.By, c.By),
		cmp.Compare(c.Size, d.Size),
		bytes.Compare(c.Digest[:], d.Digest[:]),
		cmp.Compare(c.Name, d.Name),
		c.Modified.Compare(d.Modified),
	)
}

// Same reports whether both let the same people do the same.
func (p *Permissions) Same(q *Permissions) bool {
	return p.Descriptor == q.Descriptor && p.Attributes == q.Attributes
}

func (p *Permissions) compare(q *Permissions) int {
	return cmp.Or(
		p.Changed.Compare(q.Changed),
		cmp.Compare(q.By, p.By),
		bytes.Compare(p.Descriptor.Binary(), q.Descriptor.Binary()),
		cmp.Compare(p.Attributes, q.Attributes),
	)
}
