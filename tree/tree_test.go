package tree_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"strings"
	"testing"

	"bridgespan/tree"
	"bridgespan/tree/memory"
)

func opened(t *testing.T, size int) (*memory.Tree, tree.Content, []byte) {
	t.Helper()
	want := make([]byte, size)
	for i := range want {
		want[i] = byte(i * 7 / 3)
	}
	m := new(memory.Tree)
	if _, err := m.Put(t.Context(), "f", bytes.NewReader(want), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	c, err := m.Open(t.Context(), "f")
	if err != nil {
		t.Fatal(err)
	}
	return m, c, want
}

// endings counts how often a reader was asked after it had ended.
type endings struct {
	io.Reader
	ends int
}

func (e *endings) Read(p []byte) (int, error) {
	n, err := e.Reader.Read(p)
	if err == io.EOF {
		e.ends++
	}
	return n, err
}

// What checks its source at its end checks it once.
func TestGatherReadsTheEndOnce(t *testing.T) {
	for _, size := range []int64{0, 1, 8 << 10, 64 << 10, 64<<10 + 1, 200 << 10} {
		for _, known := range []bool{true, false} {
			content := &endings{Reader: strings.NewReader(strings.Repeat("x", int(size)))}
			var to bytes.Buffer
			n, err := tree.Gather(t.Context(), &to, content, tree.PutOptions{Size: size, SizeKnown: known})
			if err != nil || n != size || int64(to.Len()) != size {
				t.Errorf("%d bytes: %d gathered, %v", size, n, err)
			}
			if content.ends != 1 {
				t.Errorf("%d bytes, known: %v: the end was read %d times", size, known, content.ends)
			}
		}
	}
}

func TestStream(t *testing.T) {
	for _, size := range []int{0, 1, 1 << 20, 1<<20 + 1, 9<<20 + 12345} {
		_, c, want := opened(t, size)
		for _, offset := range []int{0, size / 3, size} {
			s := tree.Stream(t.Context(), c, int64(offset))
			got, err := io.ReadAll(s)
			if err != nil || !bytes.Equal(got, want[offset:]) {
				t.Errorf("%d bytes from %d: %d bytes, %v", size, offset, len(got), err)
			}
			s.Close()
		}
	}
}

func TestStreamTellsErrors(t *testing.T) {
	m, c, _ := opened(t, 5<<20)
	broken := errors.New("bad sector")
	m.Fault = func(step, _ string) error { return broken }
	s := tree.Stream(t.Context(), c, 0)
	defer s.Close()
	if _, err := io.Copy(io.Discard, s); !errors.Is(err, broken) {
		t.Errorf("error %v, want %v", err, broken)
	}
}

func TestStreamEndsEarly(t *testing.T) {
	_, c, _ := opened(t, 20<<20)
	ctx, cancel := context.WithCancel(t.Context())
	s := tree.Stream(ctx, c, 0)
	if _, err := io.CopyN(io.Discard, s, 100); err != nil {
		t.Fatal(err)
	}
	cancel()
	s.Close() // must not hang
}

// A reader that was broken off does not take what it read for the whole content.
func TestStreamBrokenOffIsNotTheEnd(t *testing.T) {
	for _, size := range []int{1, 1 << 20, 20 << 20} {
		_, c, _ := opened(t, size)
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		for range 20 { // whether a piece still comes is a matter of chance
			d, err := tree.Sum(ctx, c, tree.BLAKE3, nil)
			if whole, _ := tree.Sum(t.Context(), c, tree.BLAKE3, nil); err == nil && d != whole {
				t.Fatalf("%d bytes: the sum of a part of them counts as that of all", size)
			}
		}
	}
}

func TestReserved(t *testing.T) {
	for name, want := range map[string]bool{".bspan": true, "a/.BSPAN/intake": true, ".bspan-X.part": true, "bspan": false, "a/b.bspan": false, ".": false} {
		if got := tree.Reserved(name); got != want {
			t.Errorf("Reserved(%q) = %v", name, got)
		}
	}
	if name := tree.StagingName("a/b.txt", tree.PutOptions{}); !tree.Reserved(name) || !strings.HasPrefix(name, "a/") {
		t.Errorf("staging name %q", name)
	}
}

// What is paced asks for all that passes, and ends with what stops it.
func TestPaced(t *testing.T) {
	passed := 0
	pass := func(_ context.Context, n int) error { passed += n; return nil }
	text, err := io.ReadAll(tree.Paced(t.Context(), strings.NewReader("ten bytes."), pass))
	if err != nil || string(text) != "ten bytes." || passed != 10 {
		t.Errorf("%q, %d passed, %v", text, passed, err)
	}
	closed := errors.New("closed")
	if _, err := io.ReadAll(tree.Paced(t.Context(), strings.NewReader("ten bytes."), func(context.Context, int) error { return closed })); !errors.Is(err, closed) {
		t.Errorf("what is stopped ends with %v", err)
	}
	// Who asked for so much and got it does not look at the error beside it.
	stopped := tree.Paced(t.Context(), strings.NewReader("ten bytes."), func(context.Context, int) error { return closed })
	four := make([]byte, 4)
	_, first := io.ReadFull(stopped, four)
	if n, err := io.ReadFull(stopped, four); n > 0 || !errors.Is(err, closed) {
		t.Errorf("after %v, %d bytes more were read, %v", first, n, err)
	}
}

// A walk that is ended does not look like one that has come to its end.
func TestWalkBrokenOffIsNotTheEnd(t *testing.T) {
	var m memory.Tree
	for _, name := range []string{"a/b", "c/d", "e/f"} {
		if err := tree.MkdirAll(t.Context(), &m, name); err != nil {
			t.Fatal(err)
		}
	}
	for after := 1; after <= 6; after++ {
		ctx, cancel := context.WithCancel(t.Context())
		seen := 0
		var last error
		for _, err := range tree.Walk(ctx, &m, ".", tree.Plain) {
			if seen++; seen == after {
				cancel()
			}
			last = err
		}
		cancel()
		if !errors.Is(last, context.Canceled) {
			t.Errorf("ended after %d of 6 entries, the walk told %d and then %v", after, seen, last)
		}
	}
}

// What cannot be read, and a folder that cannot be listed, do not end an orderly walk; a
// server that does not answer does.
func TestOrderedGoesOn(t *testing.T) {
	var m memory.Tree
	for _, name := range []string{"a/one", "shut/in", "z/last"} {
		if err := tree.MkdirAll(t.Context(), &m, name); err != nil {
			t.Fatal(err)
		}
	}
	var refuse error
	m.Fault = func(step, name string) error {
		if step == "list" && name == "shut" {
			return refuse
		}
		return nil
	}
	for _, c := range []struct {
		refuse error
		want   string
		ends   bool
	}{
		{fs.ErrPermission, ". a a/one shut! z z/last", false},
		{tree.ErrInUse, ". a a/one shut! z z/last", false},
		{tree.ErrUnreachable, ". a a/one shut", true},
	} {
		refuse = c.refuse
		var got []string
		var end error
		for e, err := range (&tree.Ordered{Tree: &m, Top: "."}).All(t.Context()) {
			switch {
			case err != nil:
				end = err
			case e.Unread != nil:
				got = append(got, e.Path+"!")
			default:
				got = append(got, e.Path)
			}
		}
		if text := strings.Join(got, " "); text != c.want || (end != nil) != c.ends {
			t.Errorf("%v: %s, %v; want %s", c.refuse, text, end, c.want)
		}
	}
}

// Folded, names that differ in their case alone follow each other.
func TestOrderedFolded(t *testing.T) {
	var m memory.Tree
	m.CaseSensitive = true
	for _, name := range []string{"Zinnia", "aster", "Aster", "B", "zinnia"} {
		if _, err := m.Put(t.Context(), name, strings.NewReader(""), tree.PutOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	for folded, want := range map[bool]string{false: ". Aster B Zinnia aster zinnia", true: ". Aster aster B Zinnia zinnia"} {
		var got []string
		for e, err := range (&tree.Ordered{Tree: &m, Top: ".", Folded: folded}).All(t.Context()) {
			if err != nil {
				t.Fatal(err)
			}
			got = append(got, e.Path)
		}
		if text := strings.Join(got, " "); text != want {
			t.Errorf("folded %v: %s, want %s", folded, text, want)
		}
	}
}
