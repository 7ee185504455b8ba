package compare

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"

	"bridgespan/core/chunk"
	"bridgespan/mover/gate"
	"bridgespan/tree"
)

// markOf reads the mark of a stub; marked is false of a whole file.
func markOf(ctx context.Context, s *Side, name string) (mark tree.Mark, marked bool) {
	if !s.Tree.Capabilities().Stubs {
		return mark, false
	}
	mark, err := tree.MarkOf(ctx, s.Tree, s.path(name))
	return mark, err == nil
}

// errUnreadStub is reported for a stub whose hash is unknown.
var errUnreadStub = fmt.Errorf("%w, and its content has not been read yet", tree.ErrStub)

// ofStub compares a stub, by the hash in its mark, with the file at the other side. The stub is not filled. Where the other side
// stores a hash with the file, only a full comparison reads the file.
func (c *Comparison) ofStub(ctx context.Context, name string, stub int, mark tree.Mark) (s sums, err error) {
	other := []*Side{&c.Second, &c.First}[stub]
	if theirs, marked := markOf(ctx, other, name); marked {
		return stored(stub, mark.Digest, theirs.Digest), nil
	}
	entry, err := other.Tree.Stat(ctx, other.path(name))
	same := mark.Version != "" && mark.Version == entry.Version // the stub was made from this version of the object
	switch {
	case err != nil:
	case !mark.Digest.Known() && !same:
		s.unread[stub] = errUnreadStub
		return s, nil
	case c.Level != Full && same && !mark.Digest.Known():
		return s, nil
	case c.Level != Full && entry.Digest.Known():
		return stored(stub, mark.Digest, entry.Digest), nil
	default:
		err = s.read(ctx, other, stub, name, mark.Digest, c.Gate)
	}
	switch {
	case ctx.Err() != nil:
		return s, ctx.Err()
	case errors.Is(err, tree.ErrUnreachable):
		return s, &SideError{1 - stub, other.Name, fmt.Errorf("%s: %w", name, err)}
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		s.unread[1-stub] = err
	}
	return s, nil
}

// stored returns the stored hashes of both sides; no content was read.
func stored(stub int, ours, theirs chunk.Digest) (s sums) {
	s.of[stub], s.of[1-stub] = ours, theirs
	for i, d := range s.of {
		if !chunk.Digest(d).Known() {
			s.unread[i] = errUnreadStub
		}
	}
	return s
}

// read reads the other side, once for both hashes: the mark tells BLAKE3, the list of checksums wants SHA-256. A stub whose mark
// tells no hash stands for what is read.
func (s *sums) read(ctx context.Context, other *Side, stub int, name string, digest chunk.Digest, g *gate.Gate) error {
	content, err := tree.Resident(other.Tree).Open(ctx, other.path(name))
	if err != nil {
		return err
	}
	defer content.Close()
	listed, here := sha256.New(), false
	found, err := tree.Sum(ctx, content, tree.BLAKE3, func(r io.Reader) io.Reader {
		here = true
		return io.TeeReader(tree.Paced(ctx, r, g.Pass), listed)
	})
	if err != nil {
		return err
	}
	if digest.Known() && found != digest {
		s.of[stub], s.of[1-stub] = digest, found
		return nil
	}
	sum := [32]byte(listed.Sum(nil))
	if !here { // it was hashed where it lies
		if sum, err = tree.Sum(ctx, content, tree.SHA256, nil); err != nil {
			return err
		}
	}
	s.of, s.listed = [2][32]byte{sum, sum}, true
	return nil
}
