package smb

import (
	"context"
	"fmt"
	"io"

	smb2 "github.com/cloudsoda/go-smb2"

	"bridgespan/core/chunk"
	"bridgespan/tree"
)

// mostCopied is what the protocol library copies right within a server, in bytes:
// of a larger file it repeats the beginning.
const mostCopied = 16 << 20

// Assemble copies a whole file within the server (FSCTL_SRV_COPYCHUNK, [MS-SMB2]
// 3.3.5.15.6), where nothing of it crosses the network. Larger files, and ranges,
// are not supported.
func (t *Tree) Assemble(ctx context.Context, name, base string, parts []chunk.Part, _ io.ReaderAt, options tree.PutOptions) (tree.Entry, error) {
	if len(parts) != 1 || parts[0] != (chunk.Part{Length: options.Size}) || !options.SizeKnown || options.Size >= mostCopied {
		return tree.Entry{}, tree.PathError("assemble", name, tree.ErrUnsupported)
	}
	_, from, err := t.begin(ctx, "assemble", base)
	if err != nil {
		return tree.Entry{}, err
	}
	return t.stageWith(ctx, name, options, func(share *smb2.Share, f *smb2.File) (int64, error) {
		source, err := share.Open(from)
		if err != nil {
			return 0, err
		}
		defer source.Close()
		n, err := source.WriteTo(f)
		if err == nil && n != options.Size {
			err = fmt.Errorf("%w: %d of %d bytes", tree.ErrTorn, n, options.Size)
		}
		return n, err
	})
}
