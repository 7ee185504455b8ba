package replication

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"strings"
	"time"

	"bridgespan/core/chunk"
	"bridgespan/core/replica"
	"bridgespan/guard"
	"bridgespan/tree"
)

// A large file comes in pieces, each of which is made lasting and noted. When it is broken
// off, by whatever ends, it goes on after the last of them.
const (
	growFrom = 64 << 20 // bytes of a file
	// pieceFor is for how long bytes come until they are made lasting: so much is lost
	// when a file is broken off, and several round trips are lost each time.
	pieceFor = 10 * time.Second
)

// incoming is the content of a file on its way, as fast as the lane may carry. It ends
// with errMoved when it is not what the sender's record says. The caller must call end.
type incoming struct {
	io.Reader
	content *checked
	listing *listing
	end     func()
}

// incoming passes the content of a file on; the first bytes of it, which the receiver
// has, do not cross the lane.
func (m *move) incoming(ctx context.Context, next *replica.Record, content tree.Content, has int64) *incoming {
	var source io.Reader = io.NewSectionReader(content, 0, content.Entry().Size)
	behind := func() {}
	if next.Size > smallFile {
		ahead := tree.Stream(ctx, content, 0)
		source, behind = ahead, func() { ahead.Close() }
	}
	crossing := m.paced(ctx, source)
	if has > 0 {
		crossing = io.MultiReader(io.LimitReader(source, has), crossing)
	}
	check := func(d chunk.Digest) error {
		if m.from.Digest.Known() && d != m.from.Digest {
			return errMoved
		}
		next.Digest = d
		if m.listed {
			return nil
		}
		return still(ctx, m.carry.from.Tree, m.there, content)
	}
	hash := newHash()
	in := &incoming{content: &checked{crossing, hash, check}, listing: m.listing(m.carry.to, next.Size), end: func() { behind(); hashes.Put(hash) }}
	in.Reader = in.listing.beside(in.content)
	return in
}

// begun is where a file waits whose way was broken off; else a new name in the intake.
func (m *move) begun(ctx context.Context) (staged string, err error) {
	r := m.carry.to
	p, err := m.partial(ctx, r, m.to.Key)
	if err != nil {
		return "", err
	}
	if p.Staged != "" {
		err := m.reopen(ctx, p)
		if err == nil {
			m.sofar = p
			return p.Staged, nil
		}
		if !errors.Is(err, tree.ErrUnsupported) {
			return "", err
		}
		_ = m.drop(ctx, r, p.Staged) // what keeps us out stays until it does not
		if err := m.forgetPartial(ctx, r, p.Key); err != nil {
			return "", err
		}
	}
	return m.stagedName(ctx)
}

// reopen returns tree.ErrUnsupported unless what has come of a file is there, and more of
// it may come: it may have been given permissions by now that keep us out.
func (m *move) reopen(ctx context.Context, p chunk.Partial) error {
	if !m.carry.to.Tree.Capabilities().Grows { // any more
		return tree.ErrUnsupported
	}
	_, err := tree.Stage(ctx, m.carry.to.Tree, p.Staged, strings.NewReader(""), tree.PutOptions{Size: p.Bytes + 1, SizeKnown: true, At: p.Bytes, Part: true})
	if absent(err) || errors.Is(err, tree.ErrTorn) || errors.Is(err, tree.ErrKind) || errors.Is(err, fs.ErrPermission) {
		return tree.ErrUnsupported
	}
	return err
}

// goOn brings what is still to come of a file whose way was broken off. It returns
// tree.ErrUnsupported where there is none, or it has to begin anew.
func (m *move) goOn(ctx context.Context, staged string, next *replica.Record, content tree.Content, options tree.PutOptions) (tree.Entry, error) {
	if m.sofar.Staged == "" {
		return tree.Entry{}, tree.ErrUnsupported
	}
	entry, err := m.bringAll(ctx, staged, next, content, options)
	if errors.Is(err, tree.ErrUnsupported) {
		m.sofar = chunk.Partial{}
		if bad := m.dropPartial(ctx, m.carry.to, m.to.Key); bad != nil {
			return entry, bad
		}
	}
	return entry, err
}

// bringAll stages all of a file, or what is still to come of it.
func (m *move) bringAll(ctx context.Context, staged string, next *replica.Record, content tree.Content, options tree.PutOptions) (entry tree.Entry, err error) {
	in := m.incoming(ctx, next, content, m.sofar.Bytes)
	defer in.end()
	options.ReadBack = true // from far away it crosses the other way, where other limits hold
	if m.sofar.Bytes > 0 {
		if err := m.reach(ctx, staged, in, content); err != nil {
			return entry, err
		}
	}
	if m.sofar.Bytes > 0 || !m.listed && m.grows(m.carry.to, next.Size) {
		entry, err = m.grow(ctx, staged, in, options)
	} else {
		entry, err = tree.Stage(ctx, m.carry.to.Tree, staged, in, options)
	}
	if err == nil {
		err = m.keepList(ctx, in.listing, next.Digest)
	}
	return entry, err
}

// grow stages what is still to come of a file, piece by piece.
func (m *move) grow(ctx context.Context, staged string, in *incoming, options tree.PutOptions) (tree.Entry, error) {
	r := m.carry.to
	options.At, options.Part = m.sofar.Bytes, true
	for {
		p := &piece{r: in, left: options.Size - options.At, enough: m.enough()}
		entry, err := tree.Stage(ctx, r.Tree, staged, p, options)
		if err != nil || p.ended {
			return entry, err
		}
		options.At += p.n
		if err := m.lasts(ctx, r, chunk.Partial{Key: m.to.Key, Staged: staged, Bytes: options.At, Digest: sum(in.content.hash), Kept: m.Now()}); err != nil {
			return entry, err
		}
	}
}

// lasts makes what has come lasting, and notes it.
func (m *move) lasts(ctx context.Context, r *Replica, p chunk.Partial) error {
	if err := m.flush(ctx, r); err != nil {
		return err
	}
	err := m.keepPartial(ctx, r, p)
	if err == nil {
		m.sofar = p
	}
	return err
}

// enough says when so many bytes have come that they are to be made lasting.
func (e *Engine) enough() func(n int64) bool {
	if e.piece > 0 {
		return func(n int64) bool { return n >= e.piece }
	}
	until := time.Now().Add(pieceFor)
	return func(n int64) bool { return n > 0 && time.Now().After(until) }
}

// piece passes on what is enough for now. What is left is known to be more than that, or
// it is asked for its end, which says whether it is what it should be.
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

// reach goes to where a file was broken off. It returns tree.ErrUnsupported when it has
// to begin anew: what has come is not the beginning of what the sender has.
func (m *move) reach(ctx context.Context, staged string, in *incoming, content tree.Content) error {
	has := m.sofar.Bytes
	if ok, err := m.worthCutting(ctx); err != nil || !ok {
		return orUnsupported(err)
	}
	n, err := io.CopyN(io.Discard, in, has)
	switch {
	case err != nil && err != io.EOF:
		return err
	case n < has, sum(in.content.hash) != m.sofar.Digest:
		return tree.ErrUnsupported
	}
	return m.sameThere(ctx, staged, content, has)
}

// sampleSize is how many bytes are read of each sample.
const sampleSize = 64 << 10

// sameThere reads a few of the first bytes of a file at both ends, from the first to the
// last, and returns tree.ErrUnsupported when the receiver has others: it lost what it
// had called lasting.
func (m *move) sameThere(ctx context.Context, staged string, content tree.Content, has int64) error {
	made, err := m.carry.to.Tree.Open(ctx, staged)
	if err != nil {
		return err
	}
	defer made.Close()
	group, run := guard.WithContext(ctx)
	for i := range int64(proofs) {
		length := min(sampleSize, has)
		at := i * (has - length) / (proofs - 1)
		group.Go(func() error {
			here, there := make([]byte, length), make([]byte, length)
			if err := m.carry.cross(run, len(here)); err != nil {
				return err
			}
			_, bad := io.ReadFull(io.NewSectionReader(made, at, length), here)
			_, err := io.ReadFull(io.NewSectionReader(content, at, length), there)
			if err = errors.Join(bad, err); err == nil && !bytes.Equal(here, there) {
				err = tree.ErrUnsupported
			}
			return err
		})
	}
	return group.Wait()
}
