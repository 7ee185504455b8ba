package ndr

import (
	"errors"
	"fmt"
	"testing"

	"bridgespan/core/account"
)

// What a Writer writes, a Reader reads, with pointers and alignment.
func ExampleWriter() {
	var w Writer
	w.U16(7)
	w.Name("fern")
	w.Inside(func() { w.SID(account.Administrators) })
	w.Flush()
	w.Text("über")
	w.U32(42)

	r := NewReader(w.Bytes())
	n := r.U16()
	name, there := r.Name(), r.Pointer()
	fmt.Println(n, name(), there, r.SID(), r.Text(), r.U32(), r.Err())
	// Output: 7 fern true S-1-5-32-544 über 42 <nil>
}

func TestReaderFailsOnce(t *testing.T) {
	r := NewReader([]byte{1, 0})
	if r.U32() != 0 || !errors.Is(r.Err(), ErrMalformed) {
		t.Errorf("two bytes are taken for four: %v", r.Err())
	}
	first := r.Err()
	if r.U16() != 0 || r.Text() != "" || r.Count(1) != 0 || r.Pointer() || !r.SID().IsZero() || r.Raw(1) != nil {
		t.Error("a failed reader gives something")
	}
	if r.Fail("again"); r.Err() != first {
		t.Error("a later error hides the first")
	}
}

func TestLengthsAreNotBelieved(t *testing.T) {
	for what, b := range map[string][]byte{
		"a string":              {4, 0, 0, 0, 0, 0, 0, 0, 255, 255, 255, 255},
		"a string with a start": {4, 0, 0, 0, 1, 0, 0, 0, 1, 0, 0, 0, 'a', 0},
	} {
		r := NewReader(b)
		if r.Text(); r.Err() == nil {
			t.Errorf("%s of more than is there is read", what)
		}
	}
	r := NewReader([]byte{200, 0, 0, 0, 1})
	if r.SID(); r.Err() == nil {
		t.Error("a SID of 200 parts is read")
	}
	// Empty and absent strings are no error.
	var w Writer
	w.Name("")
	w.Inside(nil)
	w.Flush()
	r = NewReader(w.Bytes())
	content := r.Name()
	if r.Pointer() || content() != "" || r.Err() != nil {
		t.Errorf("an empty name: %v", r.Err())
	}
}
