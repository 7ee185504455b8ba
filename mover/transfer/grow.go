package transfer

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"strings"
	"time"

	"bridgespan/core/chunk"
	"bridgespan/guard"
	"bridgespan/tree"
)

// A large file arrives in pieces, each of which is made durable and noted in the journal. When
// its transfer is interrupted, by whatever ends, it resumes after the last of them.
const (
	growFrom = 64 << 20 // bytes of a file
	// pieceFor is for how long bytes arrive until they are made durable: so much is lost by
	// an interruption, and several round trips are spent each time.
	pieceFor = 10 * time.Second
)

// reopen returns tree.ErrUnsupported unless what has arrived of a file is there, and can be
// continued: it may have been given permissions by now that keep us out.
func (e *Endpoint) reopen(ctx context.Context, p chunk.Partial) error {
	if !e.Tree.Capabilities().Grows { // any more
		return tree.ErrUnsupported
	}
	_, err := tree.Stage(ctx, e.Tree, p.Staged, strings.NewReader(""), tree.PutOptions{Size: p.Bytes + 1, SizeKnown: true, At: p.Bytes, Part: true})
	if absent(err) || errors.Is(err, tree.ErrTorn) || errors.Is(err, tree.ErrKind) || errors.Is(err, fs.ErrPermission) {
		return tree.ErrUnsupported
	}
	return err
}

// resume copies the rest of a file of which a part has arrived. It returns
// tree.ErrUnsupported where none has, or it has to begin anew.
func (t *task) resume(ctx context.Context, content tree.Content, options tree.PutOptions) (tree.Entry, error) {
	if t.arrived.Staged == "" {
		return tree.Entry{}, tree.ErrUnsupported
	}
	entry, err := t.copy(ctx, content, options)
	if errors.Is(err, tree.ErrUnsupported) {
		t.arrived = chunk.Partial{}
		if bad := t.to.Forget(ctx, t.Key); bad != nil {
			return entry, bad
		}
	}
	return entry, err
}

// grow stages the rest of a file, piece by piece.
func (t *task) grow(ctx context.Context, in *incoming, options tree.PutOptions) (tree.Entry, error) {
	options.At, options.Part = t.arrived.Bytes, true
	for {
		p := &piece{r: in, left: options.Size - options.At, enough: t.to.Settings.enough()}
		entry, err := tree.Stage(ctx, t.to.Tree, t.staged, p, options)
		if err != nil || p.ended {
			return entry, err
		}
		options.At += p.n
		if err := t.note(ctx, chunk.Partial{Key: t.Key, Staged: t.staged, Bytes: options.At, Digest: sum(in.content.hash), Kept: t.to.now()}); err != nil {
			return entry, err
		}
	}
}

// note makes what has arrived durable, and notes it in the journal.
func (t *task) note(ctx context.Context, p chunk.Partial) error {
	if err := t.to.Flush(ctx); err != nil {
		return err
	}
	err := t.to.keepPartial(ctx, p)
	if err == nil {
		t.arrived = p
	}
	return err
}

// piece passes on what is enough for now. The rest is known to be more than that, or it is
// asked for its end, which says whether it is what it should be.
type piece struct {
	r      io.Reader
	left   int64
	enough func(n int64) bool
	n      int64
	ended  bool
}

func (p *piece) Read(b []byte) (int, error) {
	if p.n < p.left && p.enough(p.n) {
		return 0, io.EOF
	}
	n, err := p.r.Read(b)
	p.n += int64(n)
	p.ended = err == io.EOF
	return n, err
}

// reach goes to where a transfer was interrupted. It returns tree.ErrUnsupported when it has
// to begin anew: what has arrived is not the beginning of the file any more.
func (t *task) reach(ctx context.Context, in *incoming, content tree.Content) error {
	has := t.arrived.Bytes
	if ok, err := t.worthReading(ctx); err != nil || !ok {
		return orUnsupported(err)
	}
	n, err := io.CopyN(io.Discard, in, has)
	switch {
	case err != nil && err != io.EOF:
		return err
	case n < has, sum(in.content.hash) != t.arrived.Digest:
		return tree.ErrUnsupported
	}
	return t.compareSamples(ctx, content, has)
}

// sampleSize is how many bytes are read of each sample.
const sampleSize = 64 << 10

// compareSamples reads a few of the first bytes of the file at both ends, from the first to
// the last, and returns tree.ErrUnsupported when the endpoint has others: it lost what it
// had called durable.
func (t *task) compareSamples(ctx context.Context, content tree.Content, has int64) error {
	made, err := t.to.Tree.Open(ctx, t.staged)
	if err != nil {
		return err
	}
	defer made.Close()
	group, gctx := guard.WithContext(ctx)
	for i := range int64(proofs) {
		length := min(sampleSize, has)
		at := i * (has - length) / (proofs - 1)
		group.Go(func() error {
			stored, sent := make([]byte, length), make([]byte, length)
			if err := t.cross(gctx, len(stored)); err != nil {
				return err
			}
			_, bad := io.ReadFull(io.NewSectionReader(made, at, length), stored)
			_, err := io.ReadFull(io.NewSectionReader(content, at, length), sent)
			if err = errors.Join(bad, err); err == nil && !bytes.Equal(stored, sent) {
				err = tree.ErrUnsupported
			}
			return err
		})
	}
	return group.Wait()
}

func orUnsupported(err error) error {
	if err == nil {
		return tree.ErrUnsupported
	}
	return err
}
