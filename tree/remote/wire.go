// Package remote is the tree of a folder at a host where a mover runs, and the
// handler by which the mover serves it.
//
// Each call is one HTTP request (RFC 9110), POST /v1/folders/{folder}/{call}. Its
// body is a line of JSON (RFC 8259), followed by content if the call carries any;
// so is the answer's. What comes one by one, entries of a listing and changes, is
// a line each, and the last line says that it is the last: an answer that was
// broken off is never taken for a whole one. Where it makes them shorter, bodies
// are compressed (zstd, RFC 8878). Who calls shows the mover's secret (RFC 6750),
// and knows the mover by the fingerprint of its certificate.
//
// Files are hashed and cut where they lie, so that of a changed one only the
// chunks that the other side lacks travel; small ones come with the answer that
// opens them.
package remote

import (
	"errors"
	"io/fs"
	"net/http"
	"time"

	"bridgespan/core/acl"
	"bridgespan/core/chunk"
	"bridgespan/tree"
)

// brokenOff is the trailer field of a request whose content ended too soon.
const brokenOff = "Bspan-Broken-Off"

// call is the line of a request.
type call struct {
	Sub     string       `json:"sub,omitempty"`  // the folder, in the served one, that names are in
	Name    string       `json:"name,omitempty"` // what it is about
	Other   string       `json:"other,omitempty"`
	Replace bool         `json:"replace,omitempty"`
	Detail  tree.Detail  `json:"detail,omitempty"`
	Put     *put         `json:"put,omitempty"`
	Meta    *meta        `json:"meta,omitempty"`
	Parts   []chunk.Part `json:"parts,omitempty"`
	File    string       `json:"file,omitempty"` // an open one
	At      int64        `json:"at,omitempty"`
	Length  int          `json:"length,omitempty"`
	Sizes   *chunk.Sizes `json:"sizes,omitempty"`
	Hash    tree.Hash    `json:"hash,omitempty"`
	// Expected is the file that is to become a stub, with this Mark.
	Expected *entry     `json:"expected,omitempty"`
	Mark     *tree.Mark `json:"mark,omitempty"`
	// Of a file that is uploaded: the hash of its content, and the tree that it goes to. Length is how many bytes may be sent.
	Digest  chunk.Digest `json:"digest,omitzero"`
	StoreID string       `json:"storeID,omitempty"`
}

// put are the options of a file that is written.
type put struct {
	Replace  bool         `json:"replace,omitempty"`
	Version  string       `json:"version,omitempty"`
	Digest   chunk.Digest `json:"digest,omitzero"`
	Size     *int64       `json:"size,omitempty"`
	Intake   string       `json:"intake,omitempty"`
	Meta     *meta        `json:"meta,omitempty"`
	Detail   tree.Detail  `json:"detail,omitempty"`
	At       int64        `json:"at,omitempty"`
	Part     bool         `json:"part,omitempty"`
	ReadBack bool         `json:"readBack,omitempty"`
}

type meta struct {
	Modified   time.Time        `json:"modified,omitzero"`
	Attributes *tree.Attributes `json:"attributes,omitempty"`
	Descriptor acl.Descriptor   `json:"descriptor,omitzero"`
}

// answer is a line of an answer.
type answer struct {
	Entry        *entry             `json:"entry,omitempty"`
	Error        *failure           `json:"error,omitempty"`
	Capabilities *tree.Capabilities `json:"capabilities,omitempty"`
	Space        *tree.Space        `json:"space,omitempty"`
	Descriptor   acl.Descriptor     `json:"descriptor,omitzero"`
	File         string             `json:"file,omitempty"`
	Digest       []byte             `json:"digest,omitempty"`
	Chunks       int                `json:"chunks,omitempty"` // how many follow, as binary
	Folder       string             `json:"folder,omitempty"` // in which something changed
	Mark         *tree.Mark         `json:"mark,omitempty"`
	Begun        bool               `json:"begun,omitempty"`
	Wanted       int64              `json:"wanted,omitempty"` // how many bytes of an upload are to be sent soon
	Away         *failure           `json:"away,omitempty"`   // of the tree that an upload goes to
	Last         bool               `json:"last,omitempty"`
}

// Info says what a mover serves.
type Info struct {
	Name    string    `json:"name"` // of the host
	Time    time.Time `json:"time"`
	Version string    `json:"version,omitempty"` // of the mover
	Build   string    `json:"build,omitempty"`   // SHA-256 of its program, in hexadecimal digits
	Folders []Folder  `json:"folders"`
	// Unable is why the program of the mover cannot be replaced, and Reverted why its latest update was undone; "" when neither is so.
	Unable   string `json:"unable,omitempty"`
	Reverted string `json:"reverted,omitempty"`
}

// Folder is one of the folders that a mover serves.
type Folder struct {
	Name         string            `json:"name"`
	Path         string            `json:"path"`
	Capabilities tree.Capabilities `json:"capabilities"`
	Space        tree.Space        `json:"space"`
	Trouble      string            `json:"trouble,omitempty"`
}

type entry struct {
	Name       string          `json:"name"`
	Kind       tree.Kind       `json:"kind,omitempty"`
	Size       int64           `json:"size,omitempty"`
	Allocated  int64           `json:"allocated,omitempty"`
	Modified   time.Time       `json:"modified,omitzero"`
	Created    time.Time       `json:"created,omitzero"`
	Accessed   time.Time       `json:"accessed,omitzero"`
	ID         uint64          `json:"id,omitempty"`
	Attributes tree.Attributes `json:"attributes,omitempty"`
	Descriptor acl.Descriptor  `json:"descriptor,omitzero"`
	Handed     bool            `json:"handed,omitempty"`
	Residency  tree.Residency  `json:"residency,omitempty"`
	Version    string          `json:"version,omitempty"`
	Digest     chunk.Digest    `json:"digest,omitzero"`
}

func toWire(e tree.Entry) *entry {
	w := entry(e)
	return &w
}

// fromWire is an entry; the zero one when none came.
func fromWire(w *entry) tree.Entry {
	if w == nil {
		return tree.Entry{}
	}
	return tree.Entry(*w)
}

func putToWire(o tree.PutOptions) *put {
	p := &put{Replace: o.Replace, Version: o.Version, Digest: o.Digest, Intake: o.Intake, Detail: o.Detail, Meta: metaToWire(o.Meta), At: o.At, Part: o.Part, ReadBack: o.ReadBack}
	if o.SizeKnown {
		p.Size = &o.Size
	}
	return p
}

func (p *put) options() (o tree.PutOptions) {
	if p == nil {
		return o
	}
	o = tree.PutOptions{Replace: p.Replace, Version: p.Version, Digest: p.Digest, Intake: p.Intake, Detail: p.Detail, Meta: p.Meta.meta(), At: p.At, Part: p.Part, ReadBack: p.ReadBack}
	if p.Size != nil {
		o.Size, o.SizeKnown = *p.Size, true
	}
	return o
}

func metaToWire(m tree.Meta) *meta { w := meta(m); return &w }

func (m *meta) meta() tree.Meta {
	if m == nil {
		return tree.Meta{}
	}
	return tree.Meta(*m)
}

// failure is an error on its way.
type failure struct {
	Kind string `json:"kind,omitempty"`
	Text string `json:"text"`
}

// kinds are the errors that are told apart on both sides, and their HTTP status.
var kinds = []struct {
	word   string
	err    error
	status int
}{
	{"no-folder", ErrNoFolder, http.StatusNotFound},
	{"missing", fs.ErrNotExist, http.StatusNotFound},
	{"not-empty", tree.ErrNotEmpty, http.StatusConflict}, // which the kernel takes for one of the next
	{"exists", fs.ErrExist, http.StatusConflict},
	{"keeps-out", tree.ErrKeepsOut, http.StatusForbidden},
	{"refused", fs.ErrPermission, http.StatusForbidden},
	{"unsupported", tree.ErrUnsupported, http.StatusNotImplemented},
	{"in-use", tree.ErrInUse, http.StatusLocked},
	{"no-space", tree.ErrNoSpace, http.StatusInsufficientStorage},
	{"kind", tree.ErrKind, http.StatusConflict},
	{"torn", tree.ErrTorn, http.StatusBadRequest},
	{"altered", tree.ErrAltered, http.StatusConflict},
	{"no-content", tree.ErrNoContent, http.StatusGone},
	{"stub", tree.ErrStub, http.StatusConflict},
	{"changed", tree.ErrChanged, http.StatusConflict},
	{"version", tree.ErrVersion, http.StatusPreconditionFailed},
	{"missed", tree.ErrMissed, http.StatusConflict},
	{"invalid", fs.ErrInvalid, http.StatusBadRequest},
	{"closed", errClosed, http.StatusGone},
}

// ErrNoFolder: the mover serves no folder of that name.
var ErrNoFolder = errors.New("the mover serves no such folder")

// errClosed: the mover does not have a file open any more.
var errClosed = errors.New("the mover has closed the file, since it was not used for long")

// toFailure puts an error on its way, without the names that the caller knows.
func toFailure(err error) (*failure, int) {
	f := &failure{Text: plainText(err)}
	for _, k := range kinds {
		if errors.Is(err, k.err) {
			f.Kind = k.word
			return f, k.status
		}
	}
	return f, http.StatusInternalServerError
}

func plainText(err error) string {
	var p *fs.PathError
	if errors.As(err, &p) {
		err = p.Err
	}
	return printable(err.Error())
}

// err is the error that came.
func (f *failure) err() error {
	text := printable(f.Text)
	for _, k := range kinds {
		if k.word == f.Kind {
			return &told{text, k.err}
		}
	}
	return errors.New(text)
}

// told is an error of a mover, with its words.
type told struct {
	text string
	kind error
}

func (t *told) Error() string { return t.text }
func (t *told) Unwrap() error { return t.kind }
