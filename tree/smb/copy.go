package smb

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"sync/atomic"

	smb2 "github.com/cloudsoda/go-smb2"

	"bridgespan/core/chunk"
	"bridgespan/guard"
	"bridgespan/tree"
)

// mostRuns is of how many ranges, that are shifted against each other, a file is made:
// each costs the server a window at least.
const mostRuns = 512

// Assemble makes a file of ranges of another one, which the server copies, and of
// what is sent. Where much was shifted to and fro, it is not supported.
func (t *Tree) Assemble(ctx context.Context, name, base string, parts []chunk.Part, content io.ReaderAt, options tree.PutOptions) (tree.Entry, error) {
	_, from, err := t.begin(ctx, "assemble", base)
	if err != nil {
		return tree.Entry{}, err
	}
	lasting, release := linger(ctx)
	defer release()
	return t.stageWith(ctx, name, options, func(share *remoteShare, f *remoteFile) (int64, error) {
		c := &copying{ctx: ctx, lasting: lasting, tree: t, share: share, source: from, target: f.Name()}
		if err := c.held(parts); err != nil {
			return 0, without(err)
		}
		var size int64
		if n := len(parts); n > 0 {
			size = parts[n-1].At + parts[n-1].Length
		}
		if err := f.Truncate(size); err != nil {
			return 0, err
		}
		err := lacking(ctx, f, parts, content)
		if err == nil && options.SizeKnown && size != options.Size {
			err = fmt.Errorf("%w: %d of %d bytes", tree.ErrTorn, size, options.Size)
		}
		return size, err
	})
}

// copying makes one file out of another one.
type copying struct {
	ctx, lasting   context.Context
	tree           *Tree
	share          *remoteShare
	source, target string
}

// held copies what the source holds to where it belongs in the target. What is
// around that is of no meaning then.
func (c *copying) held(parts []chunk.Part) (err error) {
	w, err := c.open(c.source, c.target, os.O_RDWR)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, w.Close()) }()
	size := w.size
	runs := runsOf(parts)
	for _, r := range runs {
		if r.From+r.Length > size {
			return fmt.Errorf("%w: a part ends at %d of %d bytes", tree.ErrTorn, r.From+r.Length, size)
		}
	}
	if len(runs) == 0 {
		return nil
	}
	if len(runs) > mostRuns {
		return tree.ErrUnsupported
	}
	if err := c.tree.copies(w); err != nil {
		return err
	}
	if inPlace(runs) {
		return c.sideBySide(w, whole(runs[0], size))
	}
	return c.shifted(w, runs)
}

// shifted copies runs of which some are to stand elsewhere: first those that are shorter
// than a window, in their order, as a window brings what is behind such a run along, and
// what comes later overwrites that.
func (c *copying) shifted(w *windows, runs []chunk.Part) (err error) {
	var long []step
	var end *windows
	defer func() {
		if end != nil {
			err = errors.Join(err, c.drop(end))
		}
	}()
	for _, r := range runs {
		switch begins := max(w.size-window, 0); {
		case r.Length >= window:
			long = append(long, steps(r)...)
			continue
		case r.From+window <= w.size:
			err = w.copy(c.ctx, step{r.From, r.At})
		default:
			if end == nil {
				end, err = c.end(w, begins)
			}
			if err == nil {
				err = end.copy(c.ctx, step{r.From - begins, r.At})
			}
		}
		if err != nil {
			return err
		}
	}
	return c.sideBySide(w, long)
}

// end opens windows on a copy of the source from an offset on, its last window at most,
// that goes on for another one: a window has to end within its source.
func (c *copying) end(w *windows, begins int64) (*windows, error) {
	name := c.target + tree.Beside
	made, err := c.open(c.source, name, os.O_RDWR|os.O_CREATE|os.O_EXCL)
	if err != nil {
		return nil, err
	}
	if err = made.copy(c.ctx, step{begins, 0}); err == nil {
		err = made.target.Truncate(w.size - begins + window)
	}
	err = errors.Join(err, made.Close())
	var end *windows
	if err == nil {
		end, err = c.open(name, c.target, os.O_RDWR)
	}
	if err != nil {
		return nil, errors.Join(err, c.share.Remove(name))
	}
	return end, nil
}

// drop closes what end opened, and takes it away.
func (c *copying) drop(end *windows) error {
	return errors.Join(end.Close(), c.share.Remove(c.target+tree.Beside))
}

// together is how many windows are copied side by side: each takes three requests, and
// while one is on its way the server has something to do.
const together = 4

// sideBySide copies windows of which none brings more than belongs where it goes.
func (c *copying) sideBySide(w *windows, all []step) error {
	var next atomic.Int64
	group, ctx := guard.WithContext(c.ctx)
	work := func(w *windows) error {
		for {
			i := next.Add(1) - 1
			if i >= int64(len(all)) {
				return nil
			}
			if err := w.copy(ctx, all[i]); err != nil {
				return err
			}
		}
	}
	group.Go(func() error { return work(w) })
	for range min(together, len(all)) - 1 {
		group.Go(func() error {
			other, err := c.open(c.source, c.target, os.O_RDWR)
			if err != nil {
				return err
			}
			return errors.Join(work(other), other.Close())
		})
	}
	return group.Wait()
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
func lacking(ctx context.Context, target *remoteFile, parts []chunk.Part, content io.ReaderAt) error {
	group, ctx := guard.WithContext(ctx)
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

// steps are the windows of a run that is no shorter than one: the last ends with it.
func steps(r chunk.Part) (all []step) {
	for done := int64(0); done < r.Length; done += window {
		at := min(done, r.Length-window)
		all = append(all, step{r.From + at, r.At + at})
	}
	return all
}

// whole are the windows of a run that stands where it belongs, in a source of so many
// bytes: what else they bring stands there, too.
func whole(r chunk.Part, size int64) []step {
	if size < window {
		return []step{{}}
	}
	at := min(r.From, size-window)
	length := max(r.From+r.Length-at, window)
	return steps(chunk.Part{At: at, From: at, Length: length})
}
