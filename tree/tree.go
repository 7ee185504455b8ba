// Package tree is the one interface through which Bridge Span reads and
// writes files, whatever holds them: a share of a server, a folder of a host,
// memory.
//
// Names follow the rules of io/fs: relative, separated by slashes, UTF-8, "."
// for the root, never "..". They are kept byte for byte as they are stored;
// [Key] gives the form in which two names are compared.
//
// [Tree] is small on purpose. What every caller wants on top of it (walking,
// copying a file whole) are functions of this package. The conformance suite
// in treetest runs over every implementation.
package tree

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"iter"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/chunk"
)

// Errors that every implementation returns, inside an *fs.PathError, next to
// fs.ErrNotExist, fs.ErrExist, fs.ErrPermission and fs.ErrInvalid.
var (
	// ErrKeepsOut: with the permissions that a file is to have, who brings it could not
	// put it in its place there, nor take it away again.
	ErrKeepsOut = errors.New("its permissions would keep out who brings it")
	// ErrInUse: another program holds the file in a way that forbids the operation.
	ErrInUse = errors.New("in use by another program")
	// ErrUnreachable: the place that holds the tree does not answer. Trying later may help.
	ErrUnreachable = errors.New("server does not answer")
	// ErrUntrusted: the server sent what no server sends that follows the protocol. It is
	// attacked, or broken. It wraps ErrUnreachable.
	ErrUntrusted error = untrusted{}
	// ErrNoSpace: the volume or a quota on it is full.
	ErrNoSpace = errors.New("no space left")
	// ErrNotEmpty: a folder that is to be removed still holds something.
	ErrNotEmpty = errors.New("folder is not empty")
	// ErrKind: a folder was given where a file is needed, or the other way round.
	ErrKind = errors.New("not of the needed kind (file or folder)")
	// ErrTorn: what arrived is not as long as what was sent; nothing was put in place.
	ErrTorn = errors.New("content arrived incomplete")
	// ErrAltered: what was stored, read back, is not what was sent.
	ErrAltered = errors.New("what was stored is not what was sent")
	// ErrStub: the content of a file is not here, and reading it would fetch it.
	ErrStub = errors.New("only a stub is here: reading it would fetch its content")
	// ErrChanged: the file that was to be read is no longer what the caller knows it to be.
	ErrChanged = errors.New("it changed meanwhile")
	// ErrVersion: the file that was to be replaced has another version by now.
	ErrVersion = errors.New("another version is there by now")
	// ErrUnsupported: this tree cannot hold what was asked.
	ErrUnsupported = errors.New("not supported here")
)

// Kind says what an entry is.
type Kind uint8

const (
	File Kind = iota
	Folder
	Link  // a symbolic link; never followed out of the tree
	Other // a device, socket or pipe
)

func (k Kind) String() string { return [...]string{"file", "folder", "link", "other"}[k] }

// Attributes are the DOS attributes of an entry ([MS-FSCC] 2.6), of which the
// four that people set are carried.
type Attributes uint32

const (
	ReadOnly Attributes = 0x01
	Hidden   Attributes = 0x02
	System   Attributes = 0x04
	Archive  Attributes = 0x20

	// SettableAttributes are the bits that Apply may change.
	SettableAttributes = ReadOnly | Hidden | System | Archive
)

// Residency says where the content of a file is.
type Residency uint8

const (
	Whole Residency = iota // in the tree
	Stub                   // elsewhere: whoever reads the file waits until it was fetched
)

// Entry describes a file or folder.
type Entry struct {
	Name      string // last element of the name, as stored
	Kind      Kind
	Size      int64 // logical size in bytes; 0 for folders
	Allocated int64 // bytes that it occupies, where known: those of an object that is sealed are more than Size
	Modified  time.Time
	Created   time.Time // zero where unknown
	// Accessed is when a file was last read, as far as the file system keeps that; a listing of Bare detail alone tells it.
	Accessed   time.Time
	ID         uint64 // identity within the tree that survives a rename; 0 where unknown
	Attributes Attributes
	Descriptor acl.Descriptor // zero unless asked for
	// Handed is true when the entry has no descriptor of its own: what its folder
	// hands down stands for it.
	Handed bool
	// Residency is that of a file's content, as far as the tree can tell.
	Residency Residency
	// Version is another text for each content that the file has ever had; "" where the tree
	// does not tell. See [Capabilities].Versions.
	Version string
	// Digest is the hash of the content that the tree keeps beside it, as told by whoever wrote the file. See
	// [Capabilities].Digests.
	Digest chunk.Digest
}

// Detail says how much of each entry a listing carries.
type Detail uint8

const (
	Plain           Detail = iota
	WithDescriptors        // fetched with the listing, in the same round trips where the protocol can
	Bare                   // as Plain, but attributes may be missing where they cost more; Accessed is told where it is known
	// Versions: names, kinds, sizes and versions alone, of a tree with [Capabilities].CostlyDetail. The
	// folder itself is listed as ".", unless it exists for what is in it only.
	Versions
)

// Meta is what can be set on an entry beside its content. Zero fields are left as they are.
type Meta struct {
	Modified   time.Time
	Attributes *Attributes
	Descriptor acl.Descriptor
}

// PutOptions direct a Put. The zero value creates a new file beside nothing else.
type PutOptions struct {
	// Replace allows an existing file to be replaced. It keeps its descriptor
	// unless Meta brings another.
	Replace bool
	// Version, with Replace, is that of the file that is to be replaced: Put fails with
	// ErrVersion, and changes nothing, when another one is there or none. It needs a tree that
	// tells versions; others fail with ErrUnsupported.
	Version string
	// Size is the length that content must have, when SizeKnown is true.
	Size      int64
	SizeKnown bool
	// Digest is the hash of content, where the caller knows it: who reads content checks it. A tree that keeps
	// hashes keeps it.
	Digest chunk.Digest
	// Intake is the folder in which content is gathered. When empty it is the
	// file's own folder, so that the file inherits the permissions it should.
	Intake string
	// Meta is set before the file becomes visible under its name.
	Meta Meta
	// Detail is how much Stage tells of the file.
	Detail Detail
	// At and Part are for Stage alone, of trees that grow files. At: so many bytes of the
	// file were staged before, and content goes on from there; what came after them does
	// not count. When Stage fails, they stay.
	At int64
	// Part: content may end before Size, which is known. What has come by then is kept
	// as it is, without Meta, and the entry tells how long that is.
	Part bool
	// Listed: the caller lists the folder afterwards. Stage need not find out, for
	// each file, what a listing tells of all: its number, length and attributes.
	Listed bool
	// ReadBack, for Stage alone: all that it stores is read again before the file is given
	// what goes with it, and Stage fails with ErrAltered where it is not what was sent.
	ReadBack bool
}

// Whole reports whether a file of so many bytes is all that Stage was to make of it.
func (o PutOptions) Whole(size int64) bool { return !o.Part || size >= o.Size }

// Capabilities say what a tree can hold and tell.
type Capabilities struct {
	CaseSensitive bool // names that differ only in case are different
	Descriptors   bool
	Samba         bool // descriptors are those that Samba on the same host applies
	IDs           bool // Entry.ID is filled
	MaxName       int  // longest element of a name, in bytes; 0 when unknown
	// Fixed are the attributes that Apply cannot set.
	Fixed Attributes
	// Ranges: an [Assembler] takes any ranges of a file, and needs so many bytes at most
	// beside the one that it makes. Otherwise it copies whole files at most.
	Ranges bool
	Beside int64
	// Grows: what was staged in part can go on later, see [PutOptions].
	Grows bool
	// Seals: a [Sealer], that needs it.
	Seals bool
	// Far: what is read of a file comes over a network, as to hash and cut it.
	// Otherwise that is done beside the file.
	Far bool
	// Versions: Entry.Version is told, and PutOptions.Version heeded.
	Versions bool
	// Digests: Entry.Digest is told of files that are shorter, and of longer ones that were put with PutOptions.Digest. 0:
	// the tree keeps no hashes.
	Digests int64
	// CostlyDetail: a listing takes a request for each entry, unless versions alone are wanted.
	CostlyDetail bool
	// WholePuts: Put is atomic by itself, gathers nothing beside, and costs no more than Stage.
	WholePuts bool
	// Stubs: a [Stubs], that fetches contents now.
	Stubs bool
	// SlowRename: a rename copies what it moves.
	SlowRename bool
	// NoFolders: a folder is there for as long as something is in it, and was never made.
	NoFolders bool
	// PassiveDescriptors: descriptors are kept as they are, and grant or deny nothing.
	PassiveDescriptors bool
}

// Endless is the room where nobody tells of an end.
const Endless = 1 << 60

// Space is the room on the volume under a tree, in bytes.
type Space struct {
	Total, Free int64
	Storage     Storage
}

// Storage is what a tree tells of the storage that it lies on, beside its size; what
// is not known is zero.
type Storage struct {
	Known      bool   // whether it can be taken out, and whether it is read-only, was told
	FileSystem string // as the system that it is mounted on calls it, such as ext4
	System     bool   // the system itself lies on it, too
	ReadOnly   bool
	Removable  bool
}

// Content is an open file. ReadAt may be called from several goroutines.
type Content interface {
	io.ReaderAt
	io.Closer
	// Entry describes the file as it was when opened.
	Entry() Entry
}

// Tree is a hierarchy of files and folders.
//
// Every method that takes a name returns an *fs.PathError that wraps
// fs.ErrInvalid when the name breaks the rules of the package comment, without
// touching anything. Methods may be called from several goroutines. When ctx
// ends, they return soon with its error.
type Tree interface {
	Capabilities() Capabilities
	// Stat describes one entry, without following a link.
	Stat(ctx context.Context, name string) (Entry, error)
	// List yields the entries of a folder in no particular order. An error
	// ends the listing, except a non-nil error beside an entry with a name:
	// that entry was listed and only its descriptor could not be read.
	List(ctx context.Context, name string, detail Detail) iter.Seq2[Entry, error]
	// Open opens a file for ranged reads.
	Open(ctx context.Context, name string) (Content, error)
	// Put writes a file whole: gathered under a temporary name, flushed,
	// checked for its length, then renamed. Under its real name the file is
	// at every moment absent, as before, or complete. It must not retain content.
	Put(ctx context.Context, name string, content io.Reader, options PutOptions) (Entry, error)
	// Mkdir makes one folder; its parent must exist.
	Mkdir(ctx context.Context, name string) error
	// Rename moves an entry within the tree. It returns fs.ErrExist when the
	// new name is taken, unless replace is true and both are files.
	Rename(ctx context.Context, from, to string, replace bool) error
	// Remove removes a file, a link or an empty folder.
	Remove(ctx context.Context, name string) error
	// Descriptor reads owner, group and entries (not the audit list).
	Descriptor(ctx context.Context, name string) (acl.Descriptor, error)
	// Apply sets the parts of meta that are not zero.
	Apply(ctx context.Context, name string, meta Meta) error
	Space(ctx context.Context) (Space, error)
	// Close ends what the tree holds open. It does not close open Content.
	Close() error
}

// Expecter is a tree that opens a file for less when it is known what it should be.
type Expecter interface {
	// OpenExpected opens a file that is taken to be as expected tells, without
	// looking whether it is: the content's Entry is expected, but for the Residency of a tree that
	// holds stubs. Who has read it finds that out with [Unchanged].
	OpenExpected(ctx context.Context, name string, expected Entry) (Content, error)
}

// OpenExpected opens a file as an [Expecter] does. Where a tree is none, the
// content's Entry tells what the file is.
func OpenExpected(ctx context.Context, t Tree, name string, expected Entry) (Content, error) {
	if e, ok := t.(Expecter); ok {
		return e.OpenExpected(ctx, name, expected)
	}
	return t.Open(ctx, name)
}

// Exchanger is a tree that can let two files change places at once, so that at
// every moment each name has one of both.
type Exchanger interface {
	// Exchange returns an error wrapping fs.ErrNotExist unless both are there,
	// and ErrUnsupported where the file system cannot do it.
	Exchange(ctx context.Context, a, b string) error
}

// Stager is a tree that can write files now and make them lasting later, many
// at once.
type Stager interface {
	// Stage writes a new file under its own name, where it is seen while it is
	// written: it belongs in a folder that nobody looks into. It sets what goes
	// with the file, and returns it as it is then, as far as options ask. It returns
	// an error wrapping fs.ErrExist when the name is taken, and leaves nothing
	// behind when it fails.
	Stage(ctx context.Context, name string, content io.Reader, options PutOptions) (Entry, error)
	// Flush makes everything lasting that was staged before.
	Flush(ctx context.Context) error
}

// Beside ends the name of a file that an [Assembler] may need beside the one that it
// makes. It stays behind when a server ends meanwhile.
const Beside = ".base"

// Assembler is a tree that can make a file of parts of another one, without
// these leaving the place that holds the tree.
type Assembler interface {
	// Assemble stages a new file as a [Stager] does: of ranges of base, and of
	// content for the parts that base does not hold. The parts follow on each
	// other from 0 to options.Size. It returns ErrUnsupported, and leaves nothing
	// behind, where the file system cannot do it, or base may not be read. Meanwhile
	// there may be another file, of name and Beside. Where options tell the hash of base, a tree that keeps
	// hashes returns ErrVersion when it keeps another one of base, or none.
	Assemble(ctx context.Context, name, base string, parts []chunk.Part, content io.ReaderAt, options PutOptions) (Entry, error)
}

// Tidier is a tree in which a process that ended may have left something that takes room.
type Tidier interface {
	// Tidy removes what nobody has continued for a long time.
	Tidy(ctx context.Context) error
}

// WriteTrier is a tree that tells whether it lets us write, without being written.
type WriteTrier interface {
	// MayWrite returns an error wrapping fs.ErrPermission when nothing may be made
	// or changed in a folder.
	MayWrite(ctx context.Context, folder string) error
}

// ErrMissed: something changed that a [Watcher] could not tell of.
var ErrMissed = errors.New("changes were missed")

// Watcher is a tree that tells when something changes in it.
type Watcher interface {
	// Watch yields the folders right in which something changed, soon after it did,
	// until ctx ends. First it yields "" when it has begun: what changes from then
	// on is told. ErrMissed says that all must be looked at, and does not end it;
	// another error does, ErrUnsupported at once where the tree cannot tell after all.
	Watch(ctx context.Context) iter.Seq2[string, error]
}

// Watch tells of changes in a tree; where it is no [Watcher], with ErrUnsupported.
func Watch(ctx context.Context, t Tree) iter.Seq2[string, error] {
	if w, ok := t.(Watcher); ok {
		return w.Watch(ctx)
	}
	return func(yield func(string, error) bool) { yield(".", PathError("watch", ".", ErrUnsupported)) }
}

// PathError makes the error form of this package.
func PathError(op, name string, err error) error {
	if err == nil {
		return nil
	}
	return &fs.PathError{Op: op, Path: name, Err: err}
}
