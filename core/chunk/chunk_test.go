package chunk

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/iotest"
)

func ExampleCutter_Split() {
	c, err := NewCutter(Around(1024))
	if err != nil {
		panic(err)
	}
	text := strings.Repeat("the same line again and again\n", 500)
	distinct := map[Fingerprint]int{}
	_ = c.Split(strings.NewReader(text), nil, func(chunk []byte) error {
		distinct[Of(chunk)]++
		return nil
	})
	fmt.Println(len(distinct) < 5)
	// Output: true
}

func random(seed uint64, size int) []byte {
	r := rand.NewChaCha8([32]byte{byte(seed), byte(seed >> 8)})
	b := make([]byte, size)
	_, _ = r.Read(b)
	return b
}

func cutter(t testing.TB, s Sizes) *Cutter {
	t.Helper()
	c, err := NewCutter(s)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func lengths(t testing.TB, c *Cutter, content []byte) (list []int) {
	t.Helper()
	var whole []byte
	if err := c.Split(bytes.NewReader(content), nil, func(chunk []byte) error {
		list = append(list, len(chunk))
		whole = append(whole, chunk...)
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(whole, content) {
		t.Fatal("the chunks together are not the content")
	}
	return list
}

func TestSizes(t *testing.T) {
	for _, bad := range []Sizes{{}, {64, 255, 1024}, {64, 300, 1024}, {32, 256, 1024}, {512, 256, 1024}, {64, 256, 128}, {64, 1 << 29, 1 << 30}} {
		if _, err := NewCutter(bad); err == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
	for average, want := range map[int]Sizes{0: {64, 256, 1024}, 1000: {128, 512, 2048}, 64 << 10: {16 << 10, 64 << 10, 256 << 10}} {
		if got := Around(average); got != want || got.Check() != nil {
			t.Errorf("around %d: %+v, %v", average, got, got.Check())
		}
	}
	for size, want := range map[int64]int{0: 16 << 10, 1 << 29: 16 << 10, 1 << 30: 32 << 10, 1 << 50: 4 << 20} {
		if got := For(size).Average; got != want {
			t.Errorf("for %d bytes: %d", size, got)
		}
	}
}

func TestLengths(t *testing.T) {
	for _, s := range []Sizes{Around(1024), Around(16 << 10), {2 << 10, 8 << 10, 64 << 10}} {
		list := lengths(t, cutter(t, s), random(1, 8<<20))
		for i, n := range list {
			if n > s.Max || n < s.Min && i < len(list)-1 {
				t.Errorf("%+v: a chunk of %d bytes", s, n)
			}
		}
		mean := 8 << 20 / len(list)
		if mean < s.Average*3/4 || mean > s.Average*3/2 {
			t.Errorf("%+v: the mean is %d bytes", s, mean)
		}
	}
	if got := lengths(t, cutter(t, Around(1024)), nil); got != nil {
		t.Errorf("of nothing: %v", got)
	}
	// What never changes is cut at the most length.
	if got := lengths(t, cutter(t, Around(1024)), make([]byte, 10_000)); got[0] != 4096 || len(got) != 3 {
		t.Errorf("of zeros: %v", got)
	}
}

// However the content arrives, its chunks are the same.
func TestSplitReads(t *testing.T) {
	content := random(2, 300_000)
	c := cutter(t, Around(4096))
	want := lengths(t, c, content)
	var got []int
	if err := c.Split(iotest.HalfReader(bytes.NewReader(content)), make([]byte, 2*c.Sizes().Max), func(chunk []byte) error { got = append(got, len(chunk)); return nil }); err != nil {
		t.Fatal(err)
	}
	if !slices.Equal(got, want) {
		t.Errorf("in small pieces: %d chunks, want %d", len(got), len(want))
	}
	broken := errors.New("broken")
	if err := c.Split(iotest.ErrReader(broken), nil, func([]byte) error { return nil }); !errors.Is(err, broken) {
		t.Errorf("a reader that breaks: %v", err)
	}
	if err := c.Split(bytes.NewReader(content), nil, func([]byte) error { return broken }); !errors.Is(err, broken) {
		t.Errorf("a chunk that is refused: %v", err)
	}
}

// rebuild makes a new content of an old one and what it lacks.
func rebuild(d Delta, old, next []byte) []byte {
	var built []byte
	for _, p := range d.Parts {
		if p.From < 0 {
			built = append(built, next[p.At:p.At+p.Length]...)
		} else {
			built = append(built, old[p.From:p.From+p.Length]...)
		}
	}
	return built
}

func TestDelta(t *testing.T) {
	old := random(3, 2<<20)
	changed := slices.Clone(old)
	copy(changed[1<<20:], random(4, 1000))
	for name, c := range map[string]struct {
		next  []byte
		lacks int // at most
	}{
		"the same":        {old, 0},
		"empty":           {nil, 0},
		"changed":         {changed, 150_000},
		"put in":          {slices.Concat(old[:500_000], []byte("a few bytes"), old[500_000:]), 150_000},
		"left out":        {slices.Concat(old[:500_000], old[500_700:]), 150_000},
		"other way round": {slices.Concat(old[1<<20:], old[:1<<20]), 200_000},
		"another":         {random(5, 1<<20), 1 << 20},
		"longer":          {slices.Concat(old, random(6, 50_000)), 150_000},
	} {
		d, err := delta(cutter(t, For(int64(len(c.next)))), old, c.next)
		if err != nil {
			t.Fatal(err)
		}
		if !bytes.Equal(rebuild(d, old, c.next), c.next) || d.Size != int64(len(c.next)) || d.Digest != [32]byte(Of(c.next)) {
			t.Errorf("%s: it is not rebuilt", name)
		}
		if d.Lacks > int64(c.lacks) || name == "another" && d.Lacks != 1<<20 {
			t.Errorf("%s: %d bytes lack", name, d.Lacks)
		}
	}
}

func FuzzDelta(f *testing.F) {
	f.Add(random(1, 3000), random(2, 2000), uint16(100))
	f.Fuzz(func(t *testing.T, old, more []byte, at uint16) {
		cut := min(int(at), len(old))
		next := slices.Concat(old[:cut], more, old[cut:])
		d, err := delta(cutter(t, Around(256)), old, next)
		if err != nil || !bytes.Equal(rebuild(d, old, next), next) {
			t.Errorf("%v: %+v", err, d)
		}
	})
}

func BenchmarkSplit(b *testing.B) {
	content := random(7, 64<<20)
	for _, average := range []int{8 << 10, 64 << 10} {
		c := cutter(b, Around(average))
		buffer := make([]byte, 4<<20)
		for name, each := range map[string]func([]byte) error{"cut": func([]byte) error { return nil }, "fingerprint": func(chunk []byte) error { Of(chunk); return nil }} {
			b.Run(fmt.Sprint(name, average), func(b *testing.B) {
				b.SetBytes(int64(len(content)))
				for b.Loop() {
					if err := c.Split(bytes.NewReader(content), buffer, each); err != nil {
						b.Fatal(err)
					}
				}
			})
		}
	}
}

// delta cuts two contents and compares them.
func delta(c *Cutter, old, next []byte) (Delta, error) {
	was, err := NewList(c, bytes.NewReader(old))
	if err != nil {
		return Delta{}, err
	}
	is, err := NewList(c, bytes.NewReader(next))
	return Compare(was, is), err
}
