package smb

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	smb2 "github.com/cloudsoda/go-smb2"
	"golang.org/x/sync/errgroup"

	"bridgespan/core/chunk"
	"bridgespan/tree"
)

// A server copies within itself (FSCTL_SRV_COPYCHUNK, [MS-SMB2] 3.3.5.15.6), where
// nothing crosses the network. The protocol library offers that for whole files. What
// it does when both files stand somewhere is right for a range all the same: of a
// file below one window it copies the length of the file, from where that stands to
// where the other one stands; of a longer one a whole window, as often as the file is
// long. So ranges are copied by windows, and each costs the server about the length
// of the file: that is why files are not copied whatever their length.
const (
	window = 16 << 20 // bytes
	// mostCopied is how long a file is, in bytes, that is made of parts of another one:
	// a server copies it as often as it has windows, which is 4 GiB at most.
	mostCopied = 256 << 20
	// mostRequests bounds what a server is asked for in a row, each time for a window.
	mostRequests = 600
)

// Assemble makes a file of ranges of another one, which the server copies, and of
// what is sent. Of a file that is longer than mostCopied, or where much was shifted
// to and fro, it is not supported.
func (t *Tree) Assemble(ctx context.Context, name, base string, parts []chunk.Part, content io.ReaderAt, options tree.PutOptions) (tree.Entry, error) {
	_, from, err := t.begin(ctx, "assemble", base)
	if err != nil {
		return tree.Entry{}, err
	}
	return t.stageWith(ctx, name, options, func(share *smb2.Share, f *smb2.File) (int64, error) {
		source, err := share.Open(from)
		if err == nil {
			defer source.Close()
			err = (&copying{ctx: ctx, tree: t, share: share, target: f}).held(source, parts)
		}
		if err != nil {
			return 0, without(err)
		}
		var size int64
		if n := len(parts); n > 0 {
			size = parts[n-1].At + parts[n-1].Length
		}
		if err := f.Truncate(size); err != nil {
			return 0, err
		}
		err = lacking(ctx, f, parts, content)
		if err == nil && options.SizeKnown && size != options.Size {
			err = fmt.Errorf("%w: %d of %d bytes", tree.ErrTorn, size, options.Size)
		}
		return size, err
	})
}

// copying makes one file.
type copying struct {
	ctx    context.Context
	tree   *Tree
	share  *smb2.Share
	target *smb2.File
}

// held copies what the source holds to where it belongs in the target. What is
// around that is of no meaning then.
func (c *copying) held(source *smb2.File, parts []chunk.Part) error {
	size, err := source.Seek(0, io.SeekEnd)
	if err != nil {
		return err
	}
	runs := runsOf(parts)
	for _, r := range runs {
		if r.From+r.Length > size {
			return fmt.Errorf("%w: a part ends at %d of %d bytes", tree.ErrTorn, r.From+r.Length, size)
		}
	}
	if len(runs) == 0 {
		return nil
	}
	if size > mostCopied || requestsFor(runs, size) > mostRequests {
		return tree.ErrUnsupported
	}
	if err := c.tree.copies(source, c.target, size); err != nil {
		return err
	}
	if inPlace(runs) {
		return c.run(source, c.target, size, runs[0])
	}
	return c.shifted(source, size, runs)
}

// shifted copies runs of which some are to stand elsewhere. A window has to end
// within its source: they are copied from a copy that is longer by one.
func (c *copying) shifted(source *smb2.File, size int64, runs []chunk.Part) (err error) {
	name := c.target.Name() + tree.Beside
	long, err := c.share.OpenFile(name, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o666)
	if err != nil {
		return err
	}
	defer func() {
		if bad := errors.Join(long.Close(), c.share.Remove(name)); err == nil {
			err = bad
		}
	}()
	if err := c.run(source, long, size, chunk.Part{Length: size}); err != nil {
		return err
	}
	if err := long.Truncate(size + window); err != nil {
		return err
	}
	// In their order: what a window brings beyond its run is overwritten by the next.
	for _, r := range runs {
		for done := int64(0); done < r.Length; done += window {
			if err := c.window(long, c.target, size+window, r.From+done, r.At+done); err != nil {
				return err
			}
		}
	}
	return nil
}

// run copies a run to where it stands in the source.
func (c *copying) run(source, target *smb2.File, size int64, r chunk.Part) error {
	if size < window {
		return c.window(source, target, size, 0, 0)
	}
	for at := r.From; at < r.From+r.Length; at += window {
		start := min(at, size-window)
		if err := c.window(source, target, size, start, start); err != nil {
			return err
		}
	}
	return nil
}

// window copies one window from and to an offset; of a source that is shorter, all.
func (c *copying) window(source, target *smb2.File, size, from, to int64) error {
	if err := c.ctx.Err(); err != nil {
		return err
	}
	if _, err := source.Seek(from, io.SeekStart); err != nil {
		return err
	}
	if _, err := target.Seek(to, io.SeekStart); err != nil {
		return err
	}
	n, err := source.WriteTo(target)
	if err == nil && n != size {
		err = fmt.Errorf("%w: the server copied %d of %d bytes", tree.ErrTorn, n, size)
	}
	return err
}

// copies returns ErrUnsupported unless the server copies within itself: the library
// reads and writes all of a file then, over the network and unasked. That shows when it
// is asked for what lies beyond the end, which no server copies.
func (t *Tree) copies(source, target *smb2.File, size int64) error {
	if t.copied.Load() {
		return nil
	}
	if size < 2 {
		return tree.ErrUnsupported
	}
	if _, err := source.Seek(size-1, io.SeekStart); err != nil {
		return err
	}
	if _, err := target.Seek(0, io.SeekStart); err != nil {
		return err
	}
	_, err := source.WriteTo(target)
	switch {
	case err == nil:
		return tree.ErrUnsupported
	case !isRefusal(err):
		return err
	}
	t.copied.Store(true)
	return nil
}

// without makes tree.ErrUnsupported of an error after which the file may come all the
// same, without what the server holds: then it has not let us, or not had the room.
func without(err error) error {
	if known := Classify(err); isRefusal(err) || errors.Is(known, fs.ErrPermission) || errors.Is(known, tree.ErrNoSpace) {
		return fmt.Errorf("%w: %v", tree.ErrUnsupported, err)
	}
	return err
}

// isRefusal reports whether a server has answered that it does not copy so.
func isRefusal(err error) bool {
	var answer *smb2.ResponseError
	var form *smb2.InvalidResponseError // the library reads no counts beside a refusal
	switch {
	case errors.As(err, &answer):
		_, known := statuses[answer.Code]
		return !known
	case errors.As(err, &form):
		return true
	}
	return false
}

// Sending what a file lacks: so many pieces of so many bytes at a time.
const (
	lackingPiece = 1 << 20
	lackingAhead = 8
)

// lacking writes what the source does not hold.
func lacking(ctx context.Context, target *smb2.File, parts []chunk.Part, content io.ReaderAt) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(lackingAhead)
	lacks := tree.StreamLacking(ctx, content, parts)
	defer lacks.Close()
	for _, p := range parts {
		if p.From >= 0 {
			continue
		}
		for at, end := p.At, p.At+p.Length; at < end; {
			piece := make([]byte, min(lackingPiece, end-at))
			if _, err := io.ReadFull(lacks, piece); err != nil {
				if err == io.EOF || err == io.ErrUnexpectedEOF {
					err = tree.ErrTorn
				}
				return cmp.Or(group.Wait(), err)
			}
			to := at
			group.Go(func() error {
				_, err := target.WriteAt(piece, to)
				return err
			})
			at += int64(len(piece))
		}
	}
	return group.Wait()
}

// runsOf joins parts that stand equally far from where they belong, and what lacks
// between them.
func runsOf(parts []chunk.Part) (runs []chunk.Part) {
	for _, p := range parts {
		if p.From < 0 || p.Length == 0 {
			continue
		}
		if n := len(runs); n > 0 && runs[n-1].From-runs[n-1].At == p.From-p.At {
			runs[n-1].Length = p.At + p.Length - runs[n-1].At
			continue
		}
		runs = append(runs, p)
	}
	return runs
}

// inPlace reports whether all belongs where it stands.
func inPlace(runs []chunk.Part) bool { return len(runs) == 1 && runs[0].At == runs[0].From }

// requestsFor is how many requests copy runs out of a file of so many bytes.
func requestsFor(runs []chunk.Part, size int64) int64 {
	windows := func(length int64) int64 { return max((length+window-1)/window, 1) }
	if inPlace(runs) {
		return windows(runs[0].Length) * (size/window + 1)
	}
	all := windows(size) * (size/window + 1)
	for _, r := range runs {
		all += windows(r.Length) * ((size+window)/window + 1)
	}
	return all
}
