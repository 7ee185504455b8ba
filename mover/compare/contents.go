package compare

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"

	"bridgespan/core/chunk"
	"bridgespan/core/verify"
	"bridgespan/guard"
	"bridgespan/mover/gate"
	"bridgespan/tree"
)

// contents compares what is in a file at both sides.
func (c *Comparison) contents(ctx context.Context, f Chosen) error {
	sums, unread, err := c.sums(ctx, f.Path)
	if err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.waiting = append(c.waiting, c.judge(f.Path, sums, unread)...)
	c.Sink.Read(f.Path, f.Size, sums[0], unread[0] == nil)
	return nil
}

func (c *Comparison) compareContent(ctx context.Context, name string) ([]verify.Difference, error) {
	sums, unread, err := c.sums(ctx, name)
	return c.judge(name, sums, unread), err
}

// sums reads a file at both sides at the same time. unread says why it could not be read at
// one of them. An error is of a server that does not answer.
func (c *Comparison) sums(ctx context.Context, name string) (sums [2][32]byte, unread [2]error, err error) {
	if err := c.Gate.Await(ctx); err != nil {
		return sums, unread, err
	}
	for i, s := range []*Side{&c.First, &c.Second} {
		if digest, marked := markOf(ctx, s, name); marked {
			return c.sumsOfStub(ctx, name, i, digest)
		}
	}
	group, gctx := guard.WithContext(ctx)
	for i, s := range []*Side{&c.First, &c.Second} {
		group.Go(func() (err error) {
			sums[i], err = sumOf(gctx, s.Tree, s.path(name), c.Gate)
			switch {
			case gctx.Err() != nil, errors.Is(err, fs.ErrNotExist): // a second look says whether it is gone
			case errors.Is(err, tree.ErrUnreachable):
				return &SideError{i, s.Name, fmt.Errorf("%s: %w", name, err)}
			default:
				unread[i] = err
			}
			return nil
		})
	}
	return sums, unread, errors.Join(group.Wait(), ctx.Err())
}

// markOf is the BLAKE3 hash that the mark of a stub tells; marked is false of a whole file.
func markOf(ctx context.Context, s *Side, name string) (digest chunk.Digest, marked bool) {
	if !s.Tree.Capabilities().Stubs {
		return digest, false
	}
	mark, err := tree.MarkOf(ctx, s.Tree, s.path(name))
	return mark.Digest, err == nil
}

// errUnreadStub: nobody knows the hash of a stub's content.
var errUnreadStub = fmt.Errorf("%w, and nobody has read that yet", tree.ErrStub)

// sumsOfStub compares the content of one side with the hash that the mark of a stub at the other one tells: the bucket has that
// content. Nothing is fetched. The sums are those of the side that is read, when they are the same.
func (c *Comparison) sumsOfStub(ctx context.Context, name string, stub int, digest chunk.Digest) (sums [2][32]byte, unread [2]error, err error) {
	if unread[stub] = errUnreadStub; !digest.Known() {
		return sums, unread, nil
	}
	other := []*Side{&c.Second, &c.First}[stub]
	if theirs, marked := markOf(ctx, other, name); marked {
		unread[stub] = nil
		sums[stub], sums[1-stub] = digest, theirs
		return sums, unread, nil
	}
	sum, err := sumBy(ctx, other.Tree, other.path(name), c.Gate, tree.BLAKE3)
	if err == nil {
		unread[stub] = nil
		sums[stub], sums[1-stub] = digest, sum
	}
	if err == nil && sum == digest { // for the list of checksums
		sums[1-stub], err = sumOf(ctx, other.Tree, other.path(name), c.Gate)
		sums[stub] = sums[1-stub]
	}
	switch {
	case ctx.Err() != nil:
		return sums, unread, ctx.Err()
	case errors.Is(err, tree.ErrUnreachable):
		return sums, unread, &SideError{1 - stub, other.Name, fmt.Errorf("%s: %w", name, err)}
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		unread[1-stub] = err
	}
	return sums, unread, nil
}

// judge says how a file differs in content.
func (c *Comparison) judge(name string, sums [2][32]byte, unread [2]error) []verify.Difference {
	d := verify.Difference{Path: name, Kind: verify.InUse}
	for i, at := range []string{c.First.Name, c.Second.Name} {
		if unread[i] == nil {
			continue
		}
		text := "in use at " + at
		if !errors.Is(unread[i], tree.ErrInUse) {
			d.Kind, text = verify.Unreadable, at+": "+Unreadable(unread[i])
		}
		*[]*string{&d.First, &d.Second}[i] = text
	}
	switch {
	case d.First+d.Second != "":
		return []verify.Difference{d}
	case sums[0] != sums[1]:
		return []verify.Difference{{Path: name, Kind: verify.Content, First: fmt.Sprintf("checksum %x…", sums[0][:6]), Second: fmt.Sprintf("checksum %x…", sums[1][:6])}}
	}
	return nil
}

// sumOf is the SHA-256 of a file's content.
func sumOf(ctx context.Context, t tree.Tree, name string, g *gate.Gate) (sum [32]byte, err error) {
	return sumBy(ctx, t, name, g, tree.SHA256)
}

func sumBy(ctx context.Context, t tree.Tree, name string, g *gate.Gate, by tree.Hash) (sum [32]byte, err error) {
	content, err := tree.Resident(t).Open(ctx, name)
	if err != nil {
		return sum, err
	}
	defer content.Close()
	return tree.Sum(ctx, content, by, func(r io.Reader) io.Reader { return tree.Paced(ctx, r, g.Pass) })
}
