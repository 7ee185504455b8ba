package smb

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"os"
	"path"
	"strings"
	"sync/atomic"
	"time"
	"unicode/utf16"

	smb2 "github.com/cloudsoda/go-smb2"
	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/sync/singleflight"

	"bridgespan/core/account"
	"bridgespan/core/acl"
	"bridgespan/tree"
)

// Tree is a share of a server, or a folder of one.
type Tree struct {
	share *remoteShare
	sub   string
	// keepsTimes is true when the server was seen to keep times as they are sent.
	keepsTimes atomic.Bool
	// asks is how often the library looks at its context for a window that the server
	// copies, when it was seen to copy within itself; else 0.
	asks atomic.Int64
	// shown is what the server makes of descriptors on new files.
	shown *lru.Cache[acl.Descriptor, acl.Descriptor]
	// admitted is whether descriptors let us work at the files that have them.
	admitted *lru.Cache[acl.Descriptor, bool]
	trials   singleflight.Group // of those that are not known
	// us is who owns what we make; nil until that is known.
	us atomic.Pointer[account.SID]
}

// mostShown bounds how many descriptors are remembered.
const mostShown = 1024

func newTree(share *remoteShare, sub string) *Tree {
	shown, _ := lru.New[acl.Descriptor, acl.Descriptor](mostShown) // fails for sizes below 1
	admitted, _ := lru.New[acl.Descriptor, bool](mostShown)
	return &Tree{share: share, sub: sub, shown: shown, admitted: admitted}
}

// descriptorParts are what a descriptor carries: all but the audit list, which
// needs a privilege of its own.
const descriptorParts = smb2.OwnerSecurityInformation | smb2.GroupSecurityInformation | smb2.DACLSecurityInformation

// refusedCharacters cannot be part of a name on an SMB server ([MS-FSCC] 2.1.5).
const refusedCharacters = "\\:*?\"<>|"

// Capabilities are those of every share. Of the attributes the protocol library
// offers no more than read-only.
var Capabilities = tree.Capabilities{Descriptors: true, Seals: true, IDs: true, MaxName: 255, Fixed: tree.Hidden | tree.System | tree.Archive,
	Ranges: true, Beside: 2 * window, Grows: true, Far: true}

func (t *Tree) Capabilities() tree.Capabilities { return Capabilities }

// Close leaves the share; the session stays.
func (t *Tree) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	return Classify(t.share.WithContext(ctx).Umount())
}

// begin checks a name and returns the share bound to ctx, and the name on the wire.
func (t *Tree) begin(ctx context.Context, op, name string) (*remoteShare, string, error) {
	if err := tree.CheckName(op, name); err != nil {
		return nil, "", err
	}
	for element := range strings.SplitSeq(name, "/") {
		if err := CheckElement(element); err != nil {
			return nil, "", tree.PathError(op, name, err)
		}
	}
	if err := ctx.Err(); err != nil {
		return nil, "", tree.PathError(op, name, err)
	}
	full := path.Join(t.sub, name)
	if full == "." {
		full = ""
	}
	return t.share.WithContext(ctx), strings.ReplaceAll(full, "/", `\`), nil
}

// CheckElement returns an error wrapping fs.ErrInvalid when no file on an SMB server can
// have a name.
func CheckElement(element string) error {
	switch {
	case strings.ContainsAny(element, refusedCharacters):
		return fmt.Errorf("%w: a name on an SMB server cannot contain any of %s", fs.ErrInvalid, refusedCharacters)
	case strings.IndexFunc(element, func(r rune) bool { return r < 0x20 }) >= 0:
		return fmt.Errorf("%w: a name on an SMB server cannot contain control characters", fs.ErrInvalid)
	case len(element) > 255 || len(utf16.Encode([]rune(element))) > 255:
		return fmt.Errorf("%w: element longer than 255 bytes", fs.ErrInvalid)
	case element != "." && strings.TrimRight(element, ". ") != element:
		return fmt.Errorf("%w: a name on an SMB server cannot end in a dot or a space", fs.ErrInvalid)
	}
	return nil
}

func (t *Tree) Stat(ctx context.Context, name string) (tree.Entry, error) {
	share, wire, err := t.begin(ctx, "stat", name)
	if err != nil {
		return tree.Entry{}, err
	}
	info, err := share.Stat(wire)
	if err != nil {
		return tree.Entry{}, pathError("stat", name, err)
	}
	return toEntry(info, path.Base(name)), nil
}

// elsewhere are the attributes of files that a server fetches from other storage when they are
// opened or read: FILE_ATTRIBUTE_OFFLINE, RECALL_ON_OPEN, RECALL_ON_DATA_ACCESS ([MS-FSCC] 2.6).
const elsewhere = 0x1000 | 0x40000 | 0x400000

func toEntry(info os.FileInfo, name string) tree.Entry {
	e := tree.Entry{Name: name, Modified: info.ModTime()}
	switch {
	case info.IsDir():
		e.Kind = tree.Folder
	case info.Mode()&fs.ModeSymlink != 0:
		e.Kind = tree.Link
	default:
		e.Size = info.Size()
	}
	if st, ok := info.Sys().(*smb2.FileStat); ok {
		e.ID = st.FileId
		e.Created = st.CreationTime
		e.Attributes = tree.Attributes(st.FileAttributes) & tree.SettableAttributes
		if e.Kind == tree.File && st.FileAttributes&elsewhere != 0 {
			e.Residency = tree.Stub
		}
		if e.Kind == tree.File {
			e.Allocated = st.AllocationSize
		}
	}
	return e
}

// How many entries of a folder are held at once. With descriptors it is less:
// each takes three requests of one compound, and Samba ends the connection when
// the answers to a compound have more parts than the kernel sends at once (1,024).
const (
	listBatch       = 1024
	descriptorsEach = 64
)

func (t *Tree) List(ctx context.Context, name string, detail tree.Detail) iter.Seq2[tree.Entry, error] {
	return func(yield func(tree.Entry, error) bool) {
		share, wire, err := t.begin(ctx, "list", name)
		if err != nil {
			yield(tree.Entry{}, err)
			return
		}
		dir, err := share.Open(wire)
		if err != nil {
			yield(tree.Entry{}, pathError("list", name, err))
			return
		}
		defer dir.Close()
		next := plainBatch
		if detail == tree.WithDescriptors {
			next = descriptorsOf(share, wire)
		}
		listed := 0
		counted := func(e tree.Entry, err error) bool {
			if listed++; listed > tree.MostEntries {
				err = tree.TooMany(name)
				e = tree.Entry{}
			}
			return yield(e, err) && listed <= tree.MostEntries
		}
		for {
			more, err := next(dir, counted)
			if err != nil {
				yield(tree.Entry{}, pathError("list", name, notFolder(dir, err)))
			}
			if !more || err != nil {
				return
			}
		}
	}
}

// notFolder is why something cannot be listed. What it is is asked only then: a listing is to take as few
// messages as it can.
func notFolder(opened *remoteFile, err error) error {
	if info, asked := describe(opened); asked == nil && !info.IsDir() {
		return tree.ErrKind
	}
	return err
}

// plainBatch yields the next entries of a folder and reports whether there may be more.
func plainBatch(dir *remoteFile, yield func(tree.Entry, error) bool) (bool, error) {
	infos, err := dir.Readdir(listBatch)
	for _, info := range infos {
		if !yield(toEntry(info, info.Name()), nil) {
			return false, nil
		}
	}
	if errors.Is(err, io.EOF) {
		return false, nil
	}
	return true, err
}

// descriptorsOf yields entries of a folder with their descriptors, as plainBatch does.
func descriptorsOf(share *remoteShare, folder string) func(*remoteFile, func(tree.Entry, error) bool) (bool, error) {
	return func(dir *remoteFile, yield func(tree.Entry, error) bool) (bool, error) {
		infos, err := dir.ReaddirPlus(descriptorsEach, descriptorParts)
		for _, info := range infos {
			entry, raw, itsError := toEntry(info.FileInfo, info.Name()), info.RawSecurityDescriptor, info.Err
			// A compound has no way to wait: when much is under way, the server has not
			// allowed for as many requests at once. Then each is asked for by itself.
			if refused := new(smb2.InternalError); errors.As(itsError, &refused) {
				raw, itsError = share.SecurityInfoRaw(strings.TrimPrefix(folder+`\`+info.Name(), `\`), descriptorParts)
				if errors.Is(Classify(itsError), fs.ErrNotExist) {
					continue // removed meanwhile
				}
			}
			if itsError == nil {
				entry.Descriptor, itsError = acl.FromBinary(raw)
			}
			if !yield(entry, pathError("descriptor", entry.Name, itsError)) {
				return false, nil
			}
		}
		if errors.Is(err, io.EOF) {
			return false, nil
		}
		return true, err
	}
}

func renameError(err error) error {
	var link *os.LinkError
	if errors.As(err, &link) {
		return link.Err
	}
	return err
}

func (t *Tree) Mkdir(ctx context.Context, name string) error {
	share, wire, err := t.begin(ctx, "mkdir", name)
	if err != nil {
		return err
	}
	if wire == "" {
		return tree.PathError("mkdir", name, fs.ErrExist)
	}
	return pathError("mkdir", name, share.Mkdir(wire, 0o777))
}

func (t *Tree) Rename(ctx context.Context, from, to string, replace bool) error {
	share, wireFrom, err := t.begin(ctx, "rename", from)
	if err != nil {
		return err
	}
	_, wireTo, err := t.begin(ctx, "rename", to)
	if err != nil {
		return err
	}
	keyFrom, keyTo := tree.Key(from, false), tree.Key(to, false)
	if from == "." || strings.HasPrefix(keyTo, keyFrom+"/") {
		return tree.PathError("rename", to, fmt.Errorf("%w: a folder cannot move into itself", fs.ErrInvalid))
	}
	if keyFrom != keyTo {
		if err := t.mayTake(ctx, from, to, replace); err != nil {
			return err
		}
	}
	return pathError("rename", to, renameError(share.Rename(wireFrom, wireTo)))
}

// mayTake returns an error unless a rename may take a name: nothing is there, or
// a file that may be replaced by a file.
func (t *Tree) mayTake(ctx context.Context, from, to string, replace bool) error {
	target, err := t.Stat(ctx, to)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	source, err := t.Stat(ctx, from)
	if err == nil && (!replace || source.Kind != tree.File || target.Kind != tree.File) {
		err = tree.PathError("rename", to, fs.ErrExist)
	}
	return err
}

func (t *Tree) Remove(ctx context.Context, name string) error {
	share, wire, err := t.begin(ctx, "remove", name)
	if err != nil {
		return err
	}
	if name == "." {
		return tree.PathError("remove", name, fmt.Errorf("%w: the root stays", fs.ErrInvalid))
	}
	return pathError("remove", name, share.Remove(wire))
}

func (t *Tree) Descriptor(ctx context.Context, name string) (acl.Descriptor, error) {
	share, wire, err := t.begin(ctx, "descriptor", name)
	if err != nil {
		return acl.Descriptor{}, err
	}
	raw, err := share.SecurityInfoRaw(wire, descriptorParts)
	if err != nil {
		return acl.Descriptor{}, pathError("descriptor", name, err)
	}
	d, err := acl.FromBinary(raw)
	return d, pathError("descriptor", name, err)
}

func (t *Tree) Apply(ctx context.Context, name string, meta tree.Meta) error {
	share, wire, err := t.begin(ctx, "apply", name)
	if err != nil {
		return err
	}
	// New permissions may keep us out, as the old ones may: the time is set where it can.
	timed := meta.Modified.IsZero()
	if !timed {
		err := share.Chtimes(wire, time.Now(), meta.Modified)
		if timed = err == nil; !timed && (meta.Descriptor.IsZero() || !errors.Is(Classify(err), fs.ErrPermission)) {
			return pathError("apply", name, err)
		}
	}
	if !meta.Descriptor.IsZero() {
		if err := setDescriptor(share, wire, meta.Descriptor, descriptorParts); err != nil {
			return pathError("apply", name, err)
		}
	}
	if !timed {
		if err := share.Chtimes(wire, time.Now(), meta.Modified); err != nil {
			return pathError("apply", name, err)
		}
	}
	if meta.Attributes != nil {
		return t.setAttributes(share, wire, name, *meta.Attributes)
	}
	return nil
}

// setDescriptor sets owner, group and entries, all or nothing.
func setDescriptor(share *remoteShare, wire string, d acl.Descriptor, parts smb2.SecurityInformationRequestFlags) error {
	raw := d.Binary()
	// A server keeps the flag "inherited automatically" only when the sender
	// asks for it by a second flag ([MS-DTYP] 2.4.6, control bits DI and DC).
	control := binary.LittleEndian.Uint16(raw[2:])
	if control&0x0400 != 0 {
		binary.LittleEndian.PutUint16(raw[2:], control|0x0100)
	}
	return share.SetSecurityInfoRaw(wire, parts, encoded(raw))
}

// encoded is what the protocol library sends as it is.
type encoded []byte

func (e encoded) Size() int       { return len(e) }
func (e encoded) Encode(b []byte) { copy(b, e) }

// setAttributes can carry read-only alone: the library offers no more.
func (t *Tree) setAttributes(share *remoteShare, wire, name string, attributes tree.Attributes) error {
	if attributes&^(tree.ReadOnly|tree.Archive) != 0 {
		return tree.PathError("apply", name, tree.ErrUnsupported)
	}
	mode := os.FileMode(0o666)
	if attributes&tree.ReadOnly != 0 {
		mode = 0o444
	}
	return pathError("apply", name, share.Chmod(wire, mode))
}

func (t *Tree) Space(ctx context.Context) (tree.Space, error) {
	share, wire, err := t.begin(ctx, "space", ".")
	if err != nil {
		return tree.Space{}, err
	}
	info, err := share.Statfs(wire)
	if err != nil {
		return tree.Space{}, pathError("space", ".", err)
	}
	unit := int64(info.BlockSize())
	return tree.Space{Total: int64(info.TotalBlockCount()) * unit, Free: int64(info.AvailableBlockCount()) * unit}, nil
}
