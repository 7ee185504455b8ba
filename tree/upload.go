package tree

import (
	"context"

	"bridgespan/core/chunk"
)

// Stored is a tree whose files several processes can open, such as a bucket.
type Stored interface {
	// StoreID identifies where the files are stored. Trees with the same text have the same files, and keep them in the same way.
	StoreID(ctx context.Context) (string, error)
}

// StoreID identifies where the files of a tree are stored, as [Stored] does.
func StoreID(ctx context.Context, t Tree) (string, error) {
	if s, ok := t.(Stored); ok {
		return s.StoreID(ctx)
	}
	return "", PathError("identify", ".", ErrUnsupported)
}

// Upload is a file that is to be written to another tree.
type Upload struct {
	Name     string // of the file
	Expected Entry  // the file as the caller knows it: number, size and time
	Digest   chunk.Digest
	StoreID  string // of the other tree
	To       string // name of the file there
	// Options are those of [Tree].Put there. A file is replaced only in the version that they name.
	Options PutOptions
	// Pace is called for every range of bytes before it is sent. It returns when that may be; nil never waits.
	Pace func(ctx context.Context, bytes int) error
}

// Uploaded is a file that was written to another tree.
type Uploaded struct {
	Entry  Entry // of the other tree
	Digest chunk.Digest
	// Failed is the error of the other tree, which the uploader could not reach; nil when the file was written.
	Failed error
}

// Uploader is a tree at a host that opens another tree by itself. Contents go there directly, and not through the caller.
type Uploader interface {
	// Upload writes a file of this tree to the other one. It returns an error wrapping ErrUnsupported, and has written nothing, when
	// the host has not opened that tree; ErrChanged when the file is not as expected, ErrStub when it is a stub, and the errors of Put. It must
	// not retain u.
	Upload(ctx context.Context, u *Upload) (Uploaded, error)
}

// UploadFrom writes a file of a tree to another one, as an [Uploader] does.
func UploadFrom(ctx context.Context, t Tree, u *Upload) (Uploaded, error) {
	if up, ok := t.(Uploader); ok {
		return up.Upload(ctx, u)
	}
	return Uploaded{}, PathError("upload", u.Name, ErrUnsupported)
}
