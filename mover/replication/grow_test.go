package replication

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"sync/atomic"
	"testing"
	"testing/synctest"

	"bridgespan/core/chunk"
	"bridgespan/core/replica"
	"bridgespan/mover/transfer"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

// The file that grows in tests, and what comes of it until it is broken off.
const (
	grownSize  = 2 << 20
	grownPiece = 256 << 10
	grownUntil = 1<<20 + 100
)

// growingPair is one between which large files come piece by piece.
func growingPair(t *testing.T, a, b tree.Tree) *pair {
	p := newPair(t, a, b)
	p.Transfers = transfer.Settings{DeltaFrom: 1 << 20, Piece: grownPiece}
	return p
}

// breakOff lets a file be broken off on its way, and returns what was kept of it.
func breakOff(t *testing.T, p *pair) chunk.Partial {
	t.Helper()
	for _, r := range p.Replicas {
		if _, err := p.Scan(t.Context(), r.ID); err != nil {
			t.Fatal(err)
		}
	}
	var crossed atomic.Int64
	p.Pace = func(_ context.Context, _ replica.Lane, n int) error {
		if crossed.Add(int64(n)) > grownUntil {
			return tree.ErrUnreachable
		}
		return nil
	}
	if _, err := p.Carry(t.Context(), p.Lanes[0], 10); !errors.Is(err, tree.ErrUnreachable) {
		t.Fatalf("it was not broken off: %v", err)
	}
	kept, err := p.Store.Partials(t.Context(), 2)
	if err != nil || len(kept) != 1 || kept[0].Bytes != 1<<20 {
		t.Fatalf("kept is %+v, %v", kept, err)
	}
	return kept[0]
}

// anew is another engine, as after the end of the first.
func anew(p *pair) *pair {
	again := newPair(p.t, p.a, p.b)
	again.Store, again.Transfers = p.Store, p.Transfers
	again.Unique = func() string { return "another " + p.Unique() }
	for i, r := range p.Replicas {
		again.Replicas[i].Scanned, again.Replicas[i].Filled = p.State(r.ID)
	}
	return again
}

// leftOver are the files of an intake.
func leftOver(t *testing.T, tr tree.Tree) (names []string) {
	t.Helper()
	for e, err := range tree.Walk(t.Context(), tr, intakeFolder, tree.Plain) {
		if err == nil && e.Kind == tree.File {
			names = append(names, e.Path)
		} else if err != nil && !absent(err) {
			t.Fatal(err)
		}
	}
	return names
}

// A large file that was broken off goes on from where it was, whoever brings it then;
// where that is not the beginning of it any more, all of it comes.
func TestGoesOn(t *testing.T) {
	far := func() tree.Tree { return &memory.Tree{Far: true} }
	put := func(t *testing.T, tr tree.Tree, name string, change func(b []byte) []byte) {
		t.Helper()
		b, err := tree.ReadFile(t.Context(), tr, name)
		if err != nil {
			t.Fatal(err)
		}
		putBytes(t, tr, name, change(b))
	}
	for what, c := range map[string]struct {
		a, b    tree.Tree
		between func(t *testing.T, p *pair, kept chunk.Partial)
		whole   bool
	}{
		"in memory":            {a: &memory.Tree{}, b: &memory.Tree{}},
		"between folders":      {a: openFolder(t), b: openFolder(t)},
		"to far away":          {a: openFolder(t), b: far()},
		"a far sender is near": {a: far(), b: far()},
		"the sender is far":    {a: &slow{&memory.Tree{Far: true}}, b: &memory.Tree{}, whole: true},
		"longer by now": {a: openFolder(t), b: far(), between: func(t *testing.T, p *pair, _ chunk.Partial) {
			put(t, p.a, "large", func(b []byte) []byte { return append(b, "a line more"...) })
		}},
		"changed behind": {a: openFolder(t), b: far(), between: func(t *testing.T, p *pair, _ chunk.Partial) {
			put(t, p.a, "large", func(b []byte) []byte { b[grownSize-1]++; return b })
		}},
		"changed before": {a: openFolder(t), b: far(), whole: true, between: func(t *testing.T, p *pair, _ chunk.Partial) {
			put(t, p.a, "large", func(b []byte) []byte { b[200_000]++; return b })
		}},
		"shorter by now": {a: openFolder(t), b: far(), whole: true, between: func(t *testing.T, p *pair, _ chunk.Partial) {
			put(t, p.a, "large", func(b []byte) []byte { return b[:1<<20-1] })
		}},
		"not there any more": {a: openFolder(t), b: far(), whole: true, between: func(t *testing.T, p *pair, kept chunk.Partial) {
			if err := p.b.Remove(t.Context(), kept.Staged); err != nil {
				t.Fatal(err)
			}
		}},
		"cut short": {a: openFolder(t), b: far(), whole: true, between: func(t *testing.T, p *pair, kept chunk.Partial) {
			put(t, p.b, kept.Staged, func(b []byte) []byte { return b[:grownPiece] })
		}},
		"lost in a crash": {a: openFolder(t), b: far(), whole: true, between: func(t *testing.T, p *pair, kept chunk.Partial) {
			put(t, p.b, kept.Staged, func(b []byte) []byte { clear(b[len(b)-100:]); return b })
		}},
		"with more behind": {a: openFolder(t), b: far(), between: func(t *testing.T, p *pair, kept chunk.Partial) {
			put(t, p.b, kept.Staged, func(b []byte) []byte { return append(b, "what was not noted"...) })
		}},
	} {
		t.Run(what, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				p := growingPair(t, c.a, c.b)
				putBytes(t, p.a, "large", randomText(12, grownSize))
				kept := breakOff(t, p)
				if c.between != nil {
					c.between(t, p, kept)
				}
				p = anew(p)
				var crossed atomic.Int64
				p.Pace = func(_ context.Context, _ replica.Lane, n int) error { crossed.Add(int64(n)); return nil }
				p.settleDown()
				want, err := tree.ReadFile(t.Context(), p.a, "large")
				if got, bad := tree.ReadFile(t.Context(), p.b, "large"); err != nil || bad != nil || !bytes.Equal(got, want) {
					t.Errorf("the receiver has %d bytes of its own, %v, %v", len(got), err, bad)
				}
				least, most := int64(len(want)), int64(len(want)+4*64<<10)
				if !c.whole {
					least, most = least-kept.Bytes, most-kept.Bytes
				}
				if n := crossed.Load(); n < least || n > most {
					t.Errorf("%d bytes crossed, want %d to %d", n, least, most)
				}
				if left := leftOver(t, p.b); len(left) > 0 {
					t.Errorf("in the intake is %v", left)
				}
				if kept, err := p.Store.Partials(t.Context(), 2); err != nil || len(kept) > 0 {
					t.Errorf("kept is %+v, %v", kept, err)
				}
			})
		})
	}
}

// What has come of a file goes when the file does not come any more.
func TestGoesOnNoMore(t *testing.T) {
	for what, between := range map[string]func(t *testing.T, p *pair, kept chunk.Partial){
		"it was removed": func(t *testing.T, p *pair, _ chunk.Partial) {
			if err := p.a.Remove(t.Context(), "large"); err != nil {
				t.Fatal(err)
			}
		},
		"it is a folder now": func(t *testing.T, p *pair, _ chunk.Partial) {
			if err := errors.Join(p.a.Remove(t.Context(), "large"), p.a.Mkdir(t.Context(), "large")); err != nil {
				t.Fatal(err)
			}
		},
		"it is there already": func(t *testing.T, p *pair, _ chunk.Partial) {
			was, err := p.a.Stat(t.Context(), "large")
			if err == nil {
				_, err = p.b.Put(t.Context(), "large", bytes.NewReader(randomText(12, grownSize)), tree.PutOptions{Meta: tree.Meta{Modified: was.Modified}})
			}
			if err != nil {
				t.Fatal(err)
			}
		},
		"it has waited too long": func(t *testing.T, p *pair, kept chunk.Partial) {
			kept.Kept = kept.Kept.Add(-transfer.PartialFor)
			if err := p.Store.KeepPartial(t.Context(), 2, kept); err != nil {
				t.Fatal(err)
			}
		},
	} {
		t.Run(what, func(t *testing.T) {
			p := growingPair(t, openFolder(t), &memory.Tree{Far: true})
			putBytes(t, p.a, "large", randomText(12, grownSize))
			between(t, p, breakOff(t, p))
			p = anew(p)
			p.settleDown()
			if left := leftOver(t, p.b); len(left) > 0 {
				t.Errorf("in the intake is %v", left)
			}
			if kept, err := p.Store.Partials(t.Context(), 2); err != nil || len(kept) > 0 {
				t.Errorf("kept is %+v, %v", kept, err)
			}
		})
	}
}

// full has no room for more than so many bytes of a file.
type full struct {
	*memory.Tree
	room int64
}

func (f *full) Stage(ctx context.Context, name string, content io.Reader, options tree.PutOptions) (tree.Entry, error) {
	if options.At > f.room {
		return tree.Entry{}, tree.PathError("stage", name, tree.ErrNoSpace)
	}
	return f.Tree.Stage(ctx, name, content, options)
}

// Where there is no room for a file, nothing of it stays: others may need that.
func TestGrowsTooLarge(t *testing.T) {
	b := &full{&memory.Tree{}, 1 << 20}
	p := growingPair(t, openFolder(t), b)
	p.Trouble = func(tr Trouble) {
		if !errors.Is(tr.Err, tree.ErrNoSpace) {
			t.Error(tr.Err)
		}
	}
	putBytes(t, p.a, "large", randomText(12, grownSize))
	p.settleDown()
	if left := leftOver(t, p.b); len(left) > 0 {
		t.Errorf("in the intake is %v", left)
	}
	b.room = grownSize
	p.Store.(*memoryStore).failed = nil
	p.settleDown()
	if e, err := p.b.Stat(t.Context(), "large"); err != nil || e.Size != grownSize {
		t.Errorf("when there is room, it is %+v, %v", e, err)
	}
}

// Another engine does not sweep away what waits for the rest of a file, and what else
// is left there it does.
func TestSweepsAroundPartials(t *testing.T) {
	p := growingPair(t, openFolder(t), &memory.Tree{})
	putBytes(t, p.a, "large", randomText(12, grownSize))
	kept := breakOff(t, p)
	putBytes(t, p.b, path.Join(path.Dir(kept.Staged), "torn"), []byte("torn"))
	p = anew(p)
	if _, err := p.Scan(t.Context(), 2); err != nil {
		t.Fatal(err)
	}
	if left := leftOver(t, p.b); len(left) != 1 || left[0] != kept.Staged {
		t.Errorf("in the intake is %v, want %s", left, kept.Staged)
	}
}

// closing keeps us out of a file.
type closing struct {
	*memory.Tree
	closed string
}

func (c *closing) Stage(ctx context.Context, name string, content io.Reader, options tree.PutOptions) (tree.Entry, error) {
	if name == c.closed {
		return tree.Entry{}, tree.PathError("stage", name, fs.ErrPermission)
	}
	return c.Tree.Stage(ctx, name, content, options)
}

func (c *closing) Remove(ctx context.Context, name string) error {
	if name == c.closed {
		return tree.PathError("remove", name, fs.ErrPermission)
	}
	return c.Tree.Remove(ctx, name)
}

// What has come, and was given permissions that keep us out, stays where it is; the file
// comes beside it.
func TestGoesOnBesideWhatIsClosed(t *testing.T) {
	b := &closing{Tree: &memory.Tree{}}
	p := growingPair(t, openFolder(t), b)
	content := randomText(12, grownSize)
	putBytes(t, p.a, "large", content)
	b.closed = breakOff(t, p).Staged
	p = anew(p)
	p.settleDown()
	if got, err := tree.ReadFile(t.Context(), p.b, "large"); err != nil || !bytes.Equal(got, content) {
		t.Errorf("the receiver has %d bytes of its own, %v", len(got), err)
	}
	if left := leftOver(t, p.b); len(left) != 1 || left[0] != b.closed {
		t.Errorf("in the intake is %v", left)
	}
}

// noting tells in which order files are written, made lasting and noted.
type noting struct {
	*memory.Tree
	steps []string
}

func (n *noting) Stage(ctx context.Context, name string, content io.Reader, options tree.PutOptions) (tree.Entry, error) {
	n.steps = append(n.steps, "stage")
	return n.Tree.Stage(ctx, name, content, options)
}

func (n *noting) Flush(ctx context.Context) error {
	n.steps = append(n.steps, "flush")
	return n.Tree.Flush(ctx)
}

// notingStore notes beside what has come.
type notingStore struct {
	Store
	tree *noting
}

func (n *notingStore) KeepPartial(ctx context.Context, r replica.ID, p chunk.Partial) error {
	n.tree.steps = append(n.tree.steps, fmt.Sprint("keep ", p.Bytes))
	return n.Store.KeepPartial(ctx, r, p)
}

// What is noted to have come is lasting by then.
func TestGrowsLasting(t *testing.T) {
	b := &noting{Tree: &memory.Tree{}}
	p := growingPair(t, openFolder(t), b)
	p.Store, p.Transfers.Piece = &notingStore{p.Store, b}, grownSize/2
	putBytes(t, p.a, "large", randomText(12, grownSize))
	p.settleDown()
	if want := []string{"stage", "flush", "keep 1048576", "stage", "flush"}; !slices.Equal(b.steps, want) {
		t.Errorf("%q, want %q", b.steps, want)
	}
}

// shrunk says that it cannot let files grow, as a mover of an older version does.
type shrunk struct{ *memory.Tree }

func (s *shrunk) Capabilities() tree.Capabilities {
	c := s.Tree.Capabilities()
	c.Grows = false
	return c
}

func (s *shrunk) Stage(ctx context.Context, name string, content io.Reader, options tree.PutOptions) (tree.Entry, error) {
	options.At, options.Part = 0, false
	return s.Tree.Stage(ctx, name, content, options)
}

// Where files cannot grow any more, those that were broken off come whole.
func TestGoesOnNowhere(t *testing.T) {
	b := &memory.Tree{}
	p := growingPair(t, openFolder(t), b)
	content := randomText(12, grownSize)
	putBytes(t, p.a, "large", content)
	breakOff(t, p)
	p.b = &shrunk{b}
	p = anew(p)
	p.settleDown()
	if got, err := tree.ReadFile(t.Context(), p.b, "large"); err != nil || !bytes.Equal(got, content) || len(leftOver(t, p.b)) > 0 {
		t.Errorf("the receiver has %d bytes of its own, %v; in the intake is %v", len(got), err, leftOver(t, p.b))
	}
}

// cut ends before its end, and does not look so.
type cut struct{ *memory.Tree }

func (c *cut) Open(ctx context.Context, name string) (tree.Content, error) {
	content, err := c.Tree.Open(ctx, name)
	return &cutContent{content}, err
}

type cutContent struct{ tree.Content }

func (c *cutContent) ReadAt(b []byte, at int64) (int, error) {
	const ends = grownSize / 2
	if at+int64(len(b)) <= ends {
		return c.Content.ReadAt(b, at)
	}
	n, err := c.Content.ReadAt(b[:max(ends-at, 0)], at)
	return n, cmp.Or(err, io.EOF)
}

// What ends too early is not put in place.
func TestGrowsWhole(t *testing.T) {
	a := &cut{&memory.Tree{}}
	p := growingPair(t, a, &memory.Tree{})
	var told error
	p.Trouble = func(tr Trouble) { told = tr.Err }
	putBytes(t, a.Tree, "large", randomText(12, grownSize))
	p.settleDown()
	if all := shown(t, p.b); len(all) > 0 || !errors.Is(told, tree.ErrTorn) {
		t.Errorf("there are %d files, and told is %v", len(all), told)
	}
}
