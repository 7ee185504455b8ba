package chunk

import (
	"bytes"
	"fmt"
	"reflect"
	"strings"
	"testing"
	"testing/iotest"
)

// What passes by in pieces of any length is cut as it is when it lies there whole.
func TestLister(t *testing.T) {
	content := random(8, 700_000)
	c := cutter(t, Around(4096))
	var want []Chunk
	_ = c.Split(bytes.NewReader(content), nil, func(chunk []byte) error {
		want = append(want, Chunk{len(chunk), Of(chunk)})
		return nil
	})
	for _, piece := range []int{1, 777, 4096, 16 << 10, 16<<10 + 1, 50_000, 1 << 20} {
		l := NewLister(c)
		for rest := content; len(rest) > 0; {
			n := min(piece, len(rest))
			if written, err := l.Write(rest[:n]); written != n || err != nil {
				t.Fatal(written, err)
			}
			rest = rest[n:]
		}
		if got := l.List(); !reflect.DeepEqual(got.Chunks, want) || got.Size != int64(len(content)) || got.Sizes != c.Sizes() {
			t.Errorf("in pieces of %d bytes: %d chunks of %d bytes, want %d", piece, len(got.Chunks), got.Size, len(want))
		}
	}
	if got := NewLister(c).List(); got.Chunks != nil || got.Size != 0 {
		t.Errorf("of nothing: %+v", got)
	}
}

func TestNewList(t *testing.T) {
	content := random(9, 300_000)
	l, err := NewList(cutter(t, For(0)), iotest.HalfReader(bytes.NewReader(content)))
	if err != nil || l.Digest != [32]byte(Of(content)) || l.Size != int64(len(content)) {
		t.Errorf("%d bytes, %v", l.Size, err)
	}
	if _, err := NewList(cutter(t, For(0)), iotest.TimeoutReader(bytes.NewReader(content))); err != iotest.ErrTimeout {
		t.Errorf("a reader that breaks: %v", err)
	}
}

func ExampleList_AppendBinary() {
	c, _ := NewCutter(Around(256))
	l, _ := NewList(c, strings.NewReader(strings.Repeat("moss, fern, reed and rush; ", 40)))
	form, _ := l.AppendBinary(nil)
	var again List
	fmt.Println(again.UnmarshalBinary(form), again.Size, again.Digest == l.Digest, len(again.Chunks) == len(l.Chunks))
	// Output: <nil> 1080 true true
}

// What is no list is refused, and nothing is taken from it.
func TestListForm(t *testing.T) {
	l, err := NewList(cutter(t, Around(1024)), bytes.NewReader(random(10, 20_000)))
	if err != nil {
		t.Fatal(err)
	}
	form, _ := l.AppendBinary([]byte("before"))
	var again List
	if err := again.UnmarshalBinary(form[6:]); err != nil || !reflect.DeepEqual(again, l) || string(form[:6]) != "before" {
		t.Fatalf("it comes back as %+v, %v", again, err)
	}
	form = form[6:]
	other := bytes.Clone(form)
	other[0]++
	long := bytes.Clone(form)
	long[39], long[40] = 0xff, 0x7f // the length of the first chunk
	for what, bad := range map[string][]byte{"nothing": nil, "another form": other, "only a form": form[:1], "bad sizes": {1, 1, 1, 1},
		"half a digest": form[:20], "half a chunk": form[:len(form)-1], "too long a chunk": long, "no length": append(bytes.Clone(form), 0)} {
		got := List{Size: 7}
		if err := got.UnmarshalBinary(bad); err == nil || !reflect.DeepEqual(got, List{Size: 7}) {
			t.Errorf("%s: taken for %+v, %v", what, got, err)
		}
	}
}

func FuzzListForm(f *testing.F) {
	l, _ := NewList(cutter(f, Around(256)), bytes.NewReader(random(11, 5000)))
	form, _ := l.AppendBinary(nil)
	f.Add(form)
	f.Add([]byte{1})
	f.Fuzz(func(t *testing.T, form []byte) {
		var l, again List
		if l.UnmarshalBinary(form) != nil {
			return
		}
		out, _ := l.AppendBinary(nil)
		if err := again.UnmarshalBinary(out); err != nil || !reflect.DeepEqual(l, again) {
			t.Errorf("%v: %+v", err, l)
		}
	})
}
