package replication

import (
	"bytes"
	"context"
	"errors"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"bridgespan/core/chunk"
	"bridgespan/core/replica"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/folder"
	"bridgespan/tree/memory"
)

func randomText(seed uint64, size int) []byte {
	b := make([]byte, size)
	_, _ = rand.NewChaCha8([32]byte{byte(seed)}).Read(b)
	return b
}

func putBytes(t *testing.T, tr tree.Tree, name string, content []byte) {
	t.Helper()
	if _, err := tr.Put(t.Context(), name, bytes.NewReader(content), tree.PutOptions{Replace: true}); err != nil {
		t.Fatal(err)
	}
}

// Of a large file only what the receiver lacks is carried, whatever was changed
// in it; of another one in its place, all.
func TestDelta(t *testing.T) {
	t.Run("folders", func(t *testing.T) { testDelta(t, openFolder(t), openFolder(t)) })
	t.Run("far", func(t *testing.T) { testDelta(t, openFolder(t), &memory.Tree{Far: true}) })
	t.Run("shares", func(t *testing.T) {
		oak, elm := standintest.FileServer(t, "oak", "store"), standintest.FileServer(t, "elm", "store")
		testDelta(t, openShare(t, oak, "store"), openShare(t, elm, "store"))
	})
}

func testDelta(t *testing.T, a, b tree.Tree) {
	p := newPair(t, a, b)
	var crossed atomic.Int64
	p.Pace = func(_ context.Context, _ replica.Lane, n int) error { crossed.Add(int64(n)); return nil }
	const size = 8 << 20
	first := randomText(1, size)
	putBytes(t, p.a, "large", first)
	p.settleDown()
	changed := bytes.Clone(first)
	copy(changed[3<<20:], randomText(2, 5000))
	changedAgain := bytes.Clone(changed)
	copy(changedAgain[7<<20:], randomText(5, 5000))
	for _, c := range []struct {
		what    string
		content []byte
		most    int64
	}{
		{"bytes changed", changed, size / 20},
		{"bytes changed again", changedAgain, size / 20},
		{"bytes put in", append(append(bytes.Clone(changed[:1000]), "a few more"...), changed[1000:]...), size / 20},
		{"a shorter one", changed[:size/2], size / 20},
		{"another one", randomText(3, size), size},
	} {
		crossed.Store(0)
		putBytes(t, p.a, "large", c.content)
		if done := p.settleDown(); done.Files != 1 {
			t.Errorf("%s: %+v", c.what, done)
		}
		got, err := tree.ReadFile(t.Context(), p.b, "large")
		if err != nil || !bytes.Equal(got, c.content) {
			t.Errorf("%s: the receiver has %d bytes of its own, %v", c.what, len(got), err)
		}
		if n := crossed.Load(); n > c.most || n == 0 {
			t.Errorf("%s: %d bytes crossed, at most %d should", c.what, n, c.most)
		}
	}
	if _, err := p.b.Stat(t.Context(), atticFolder); !absent(err) {
		t.Errorf("there is an attic of what was only changed: %v", err)
	}
}

// A file that people change while it is put together is not shown half old and
// half new.
func TestDeltaOfWhatChanges(t *testing.T) {
	p := newPair(t, openFolder(t), openFolder(t))
	first := randomText(4, 4<<20)
	putBytes(t, p.a, "large", first)
	p.settleDown()
	second, third := bytes.Clone(first), bytes.Clone(first)
	copy(second[1<<20:], "changed once")
	copy(third[2<<20:], "changed again")
	putBytes(t, p.a, "large", second)
	if _, err := p.Scan(t.Context(), 1); err != nil {
		t.Fatal(err)
	}
	meddled := false
	p.Pace = func(context.Context, replica.Lane, int) error {
		if !meddled {
			meddled = true
			putBytes(t, p.a, "large", third)
		}
		return nil
	}
	for range 3 {
		if _, err := p.Carry(t.Context(), p.Lanes[0], 10); err != nil {
			t.Fatal(err)
		}
		if got, err := tree.ReadFile(t.Context(), p.b, "large"); err != nil || !bytes.Equal(got, first) && !bytes.Equal(got, second) && !bytes.Equal(got, third) {
			t.Fatalf("what nobody wrote is shown, %v", err)
		}
	}
	p.settleDown()
	if got, err := tree.ReadFile(t.Context(), p.b, "large"); err != nil || !bytes.Equal(got, third) || !meddled {
		t.Errorf("in the end it is not what was written last, %v", err)
	}
}

// rewritten is a folder in which somebody writes into a file when all of it was read once.
type rewritten struct {
	tree.Tree
	change func()
}

type rewrittenContent struct {
	tree.Content
	left   atomic.Int64
	change func()
}

func (c *rewritten) Open(ctx context.Context, name string) (tree.Content, error) {
	content, err := c.Tree.Open(ctx, name)
	if err != nil || name != "large" {
		return content, err
	}
	watched := &rewrittenContent{Content: content, change: c.change}
	watched.left.Store(content.Entry().Size)
	return watched, nil
}

func (c *rewrittenContent) Unwrap() tree.Content { return c.Content }

func (c *rewrittenContent) ReadAt(p []byte, off int64) (int, error) {
	n, err := c.Content.ReadAt(p, off)
	if left := c.left.Add(-int64(n)); left <= 0 && left+int64(n) > 0 {
		c.change()
	}
	return n, err
}

// A file that somebody writes into between its two readings does not arrive half old
// and half new, though what arrives far away is not read again.
func TestDeltaOfWhatIsWritten(t *testing.T) {
	dir := t.TempDir()
	f, err := folder.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	first := randomText(8, 4<<20)
	second := append(bytes.Clone(first), "longer"...) // else it would be read once more
	copy(second[1<<20:], "changed")
	at := time.Now().Add(-time.Hour)
	write := func(offset int64, text string) {
		file, err := os.OpenFile(filepath.Join(dir, "large"), os.O_WRONLY, 0)
		if err == nil {
			_, err = file.WriteAt([]byte(text), offset)
		}
		at = at.Add(time.Second)
		if err := errors.Join(err, file.Close(), os.Chtimes(file.Name(), at, at)); err != nil {
			t.Error(err)
		}
	}
	var armed atomic.Bool
	a := &rewritten{f, func() {
		if armed.CompareAndSwap(true, false) {
			write(2<<20, "here first") // which the receiver has as it was
			write(1<<20+3, "XYZ")
		}
	}}
	third := bytes.Clone(second)
	copy(third[2<<20:], "here first")
	copy(third[1<<20+3:], "XYZ")
	p := newPair(t, a, &memory.Tree{Far: true})
	putBytes(t, a, "large", first)
	p.settleDown()
	write(1<<20, "changed")
	write(int64(len(first)), "longer")
	armed.Store(true)
	for range 4 {
		if _, err := p.Scan(t.Context(), 1); err != nil {
			t.Fatal(err)
		}
		if _, err := p.Carry(t.Context(), p.Lanes[0], 10); err != nil {
			t.Fatal(err)
		}
		if got, err := tree.ReadFile(t.Context(), p.b, "large"); err != nil || !bytes.Equal(got, first) && !bytes.Equal(got, second) && !bytes.Equal(got, third) {
			t.Fatalf("what nobody wrote is shown, %v", err)
		}
	}
	if got, err := tree.ReadFile(t.Context(), p.b, "large"); err != nil || !bytes.Equal(got, third) || armed.Load() {
		t.Errorf("in the end it is not what was written last, %v", err)
	}
}

// slow is so far away that it takes a while to answer.
type slow struct{ *memory.Tree }

func (s *slow) Stat(ctx context.Context, name string) (tree.Entry, error) {
	time.Sleep(10 * time.Millisecond)
	return s.Tree.Stat(ctx, name)
}

// What is far away is not read: of a file there only what it lacks is brought where
// that is known and pays, else all of it.
func TestDeltaFarAway(t *testing.T) {
	const size = 2 << 20
	first, second := randomText(6, size), randomText(6, size)
	copy(second[1<<20:], "a few bytes")
	far := func() tree.Tree { return &memory.Tree{Far: true} }
	for what, c := range map[string]struct {
		a, b   tree.Tree
		there  bool // the receiver had it from the beginning
		before func(p *pair)
		whole  bool
	}{
		"as brought":         {a: far(), b: far()},
		"as it was there":    {a: far(), b: far(), there: true},
		"nothing is known":   {a: far(), b: far(), before: func(p *pair) { clear(p.Store.(*memoryStore).lists) }, whole: true},
		"the sender is far":  {a: &slow{&memory.Tree{Far: true}}, b: far(), whole: true},
		"both are":           {a: &slow{&memory.Tree{Far: true}}, b: &slow{&memory.Tree{Far: true}}},
		"the sender is near": {a: &slow{&memory.Tree{}}, b: far()},
		"only the sender is": {a: &slow{&memory.Tree{Far: true}}, b: &memory.Tree{}, whole: true},
		"changed in secret":  {a: far(), b: far(), before: changeInSecret, whole: true},
	} {
		t.Run(what, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				p := newPair(t, c.a, c.b)
				putBytes(t, c.a, "large", first)
				if c.there {
					putBytes(t, c.b, "large", first)
				}
				p.settleDown()
				if c.before != nil {
					c.before(p)
				}
				var crossed atomic.Int64
				p.Pace = func(_ context.Context, _ replica.Lane, n int) error { crossed.Add(int64(n)); return nil }
				putBytes(t, c.a, "large", second)
				done := p.settleDown()
				if got, err := tree.ReadFile(t.Context(), c.b, "large"); err != nil || !bytes.Equal(got, second) {
					t.Errorf("the receiver has %d bytes of its own, %v", len(got), err)
				}
				if n := crossed.Load(); c.whole != (n >= size) || c.whole != (done.Spared == 0) || !c.whole && n > size/4 {
					t.Errorf("%d bytes crossed, %d were spared", n, done.Spared)
				}
				if left := slices.Collect(maps.Keys(shown(t, c.b))); len(left) != 1 {
					t.Errorf("there are %v", left)
				}
			})
		})
	}
}

// ending goes away once while it makes a file of parts, and leaves another one beside it.
type ending struct {
	*memory.Tree
	went bool
}

func (e *ending) Assemble(ctx context.Context, name, base string, parts []chunk.Part, content io.ReaderAt, options tree.PutOptions) (tree.Entry, error) {
	if e.went {
		return e.Tree.Assemble(ctx, name, base, parts, content, options)
	}
	e.went = true
	_, err := e.Put(ctx, name+tree.Beside, strings.NewReader("of the base"), tree.PutOptions{})
	return tree.Entry{}, errors.Join(tree.ErrUnreachable, err)
}

// changedAtSender lets both have a large file, of which the sender changes a little; it
// returns what is in it then, and that was seen.
func changedAtSender(p *pair) []byte {
	p.t.Helper()
	content := randomText(9, 2<<20)
	putBytes(p.t, p.a, "large", content)
	p.settleDown()
	copy(content[1<<20:], "changed")
	putBytes(p.t, p.a, "large", content)
	if _, err := p.Scan(p.t.Context(), 1); err != nil {
		p.t.Fatal(err)
	}
	return content
}

// What a server that went away has left in the intake goes when it is back.
func TestDeltaGoesAway(t *testing.T) {
	p := newPair(t, openFolder(t), &ending{Tree: &memory.Tree{Far: true}})
	first := changedAtSender(p)
	if _, err := p.Carry(t.Context(), p.Lanes[0], 10); !errors.Is(err, tree.ErrUnreachable) {
		t.Fatalf("the receiver went away: %v", err)
	}
	p.settleDown()
	if got, err := tree.ReadFile(t.Context(), p.b, "large"); err != nil || !bytes.Equal(got, first) {
		t.Errorf("the receiver has %d bytes of its own, %v", len(got), err)
	}
	for e, err := range tree.Walk(t.Context(), p.b, intakeFolder, tree.Plain) {
		if err != nil || e.Kind == tree.File {
			t.Errorf("%s is left, %v", e.Path, err)
		}
	}
}

// changeInSecret changes what the receiver holds, and not how it looks.
func changeInSecret(p *pair) {
	t, ctx := p.b.(*memory.Tree), p.t.Context()
	was, err := t.Stat(ctx, "large")
	if err != nil {
		p.t.Fatal(err)
	}
	putBytes(p.t, t, "large", randomText(7, int(was.Size)))
	if err := t.Apply(ctx, "large", tree.Meta{Modified: was.Modified}); err != nil {
		p.t.Fatal(err)
	}
	is, err := t.Stat(ctx, "large")
	if err != nil {
		p.t.Fatal(err)
	}
	s := p.Store.(*memoryStore)
	rec := s.record(2, "large")
	rec.Seen.ID = is.ID // the same file still
	s.setRow(2, rec)
}

// What was spared counts with the file that it was spared of: not when somebody has
// changed that at the receiver meanwhile, and it is not put in place.
func TestDeltaInVain(t *testing.T) {
	p := newPair(t, openFolder(t), &memory.Tree{Far: true})
	changedAtSender(p)
	var once sync.Once
	p.Pace = func(context.Context, replica.Lane, int) error {
		once.Do(func() { putBytes(t, p.b, "large", randomText(11, 2<<20)) })
		return nil
	}
	if done, err := p.Carry(t.Context(), p.Lanes[0], 10); err != nil || done.Files != 0 || done.Bytes != 0 || done.Spared != 0 {
		t.Errorf("of what was not put in place: %+v, %v", done, err)
	}
}
