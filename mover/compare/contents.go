package compare

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"

	"bridgespan/core/verify"
	"bridgespan/guard"
	"bridgespan/mover/gate"
	"bridgespan/tree"
)

// contents compares what is in a file at both sides.
func (c *Comparison) contents(ctx context.Context, f Chosen) error {
	s, err := c.sums(ctx, f.Path)
	if err != nil {
		return err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.waiting = append(c.waiting, c.judge(f.Path, s)...)
	c.Sink.Read(f.Path, f.Size, s.of[0], s.listed)
	return nil
}

func (c *Comparison) compareContent(ctx context.Context, name string) ([]verify.Difference, error) {
	s, err := c.sums(ctx, name)
	return c.judge(name, s), err
}

// sums are the hashes of a file at both sides.
type sums struct {
	of     [2][32]byte
	unread [2]error // why it could not be read
	listed bool     // the first is SHA-256, and goes into the list of checksums
}

// sums reads a file at both sides at the same time. An error is of a server that does not answer.
func (c *Comparison) sums(ctx context.Context, name string) (s sums, err error) {
	if err := c.Gate.Await(ctx); err != nil {
		return s, err
	}
	for i, side := range []*Side{&c.First, &c.Second} {
		if mark, marked := markOf(ctx, side, name); marked {
			return c.ofStub(ctx, name, i, mark)
		}
	}
	group, gctx := guard.WithContext(ctx)
	for i, side := range []*Side{&c.First, &c.Second} {
		group.Go(func() (err error) {
			s.of[i], err = sumOf(gctx, side.Tree, side.path(name), c.Gate)
			switch {
			case gctx.Err() != nil, errors.Is(err, fs.ErrNotExist): // a second look says whether it is gone
			case errors.Is(err, tree.ErrUnreachable):
				return &SideError{i, side.Name, fmt.Errorf("%s: %w", name, err)}
			default:
				s.unread[i] = err
			}
			return nil
		})
	}
	err = errors.Join(group.Wait(), ctx.Err())
	s.listed = s.unread[0] == nil
	return s, err
}

// judge says how a file differs in content.
func (c *Comparison) judge(name string, s sums) []verify.Difference {
	d := verify.Difference{Path: name, Kind: verify.InUse}
	for i, at := range []string{c.First.Name, c.Second.Name} {
		if s.unread[i] == nil {
			continue
		}
		text := "in use at " + at
		if !errors.Is(s.unread[i], tree.ErrInUse) {
			d.Kind, text = verify.Unreadable, at+": "+Unreadable(s.unread[i])
		}
		*[]*string{&d.First, &d.Second}[i] = text
	}
	switch {
	case d.First+d.Second != "":
		return []verify.Difference{d}
	case s.of[0] != s.of[1]:
		return []verify.Difference{{Path: name, Kind: verify.Content, First: fmt.Sprintf("checksum %x…", s.of[0][:6]), Second: fmt.Sprintf("checksum %x…", s.of[1][:6])}}
	}
	return nil
}

// sumOf is the SHA-256 of a file's content.
func sumOf(ctx context.Context, t tree.Tree, name string, g *gate.Gate) (sum [32]byte, err error) {
	content, err := tree.Resident(t).Open(ctx, name)
	if err != nil {
		return sum, err
	}
	defer content.Close()
	return tree.Sum(ctx, content, tree.SHA256, func(r io.Reader) io.Reader { return tree.Paced(ctx, r, g.Pass) })
}
