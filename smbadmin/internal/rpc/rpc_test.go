package rpc

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"testing"
)

// scripted is a pipe that answers what it was given, in pieces.
type scripted struct {
	answers bytes.Buffer
	sent    bytes.Buffer
	piece   int
}

func (s *scripted) Write(b []byte) (int, error) { return s.sent.Write(b) }

func (s *scripted) Read(b []byte) (int, error) {
	if s.piece > 0 && len(b) > s.piece {
		b = b[:s.piece]
	}
	return s.answers.Read(b)
}

func fragment(kind, flags byte, call uint32, body []byte) []byte {
	b := []byte{5, 0, kind, flags, 0x10, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}
	binary.LittleEndian.PutUint16(b[8:], uint16(16+len(body)))
	binary.LittleEndian.PutUint32(b[12:], call)
	return append(b, body...)
}

// acknowledgement says that the server takes fragments of most bytes.
func acknowledgement(most uint16) []byte {
	body := binary.LittleEndian.AppendUint16(nil, most)
	body = binary.LittleEndian.AppendUint16(body, most)
	body = append(body, 1, 0, 0, 0, 1, 0, 0) // an address of one byte
	for len(body)%4 != 0 {
		body = append(body, 0)
	}
	body = append(body, 1, 0, 0, 0, 0, 0, 0, 0)
	return fragment(typeBindAck, 3, 1, append(body, ndrSyntax[:]...))
}

func response(flags byte, call uint32, stub []byte) []byte {
	return fragment(typeResponse, flags, call, append(make([]byte, 8), stub...))
}

func bound(t *testing.T, pipe *scripted, most uint16) *Client {
	t.Helper()
	pipe.answers.Write(acknowledgement(most))
	c, err := Bind(pipe, Interface{Pipe: "test"})
	if err != nil {
		t.Fatal(err)
	}
	pipe.sent.Reset()
	return c
}

// A long request travels in fragments that the server takes, and a long answer
// is put together however it is cut.
func TestFragmentsBothWays(t *testing.T) {
	for _, piece := range []int{1, 7, 16, 1000, 0} {
		pipe := &scripted{piece: piece}
		c := bound(t, pipe, 2000)
		request := bytes.Repeat([]byte("request "), 1000)
		want := bytes.Repeat([]byte("answer "), 1000)
		pipe.answers.Write(response(1, 2, want[:3000]))
		pipe.answers.Write(response(0, 2, want[3000:3001]))
		pipe.answers.Write(response(2, 2, want[3001:]))
		got, err := c.Call(5, request)
		if err != nil || !bytes.Equal(got, want) {
			t.Fatalf("in pieces of %d: %d bytes, %v; want %d", piece, len(got), err, len(want))
		}
		var carried []byte
		for n := 1; pipe.sent.Len() > 0; n++ {
			head := pipe.sent.Next(24)
			size := int(binary.LittleEndian.Uint16(head[8:]))
			if size > 2000 || binary.LittleEndian.Uint16(head[22:]) != 5 {
				t.Errorf("fragment %d has %d bytes for procedure %d", n, size, binary.LittleEndian.Uint16(head[22:]))
			}
			carried = append(carried, pipe.sent.Next(size-24)...)
			if first, last := head[3]&1 != 0, head[3]&2 != 0; first != (n == 1) || last != (pipe.sent.Len() == 0) {
				t.Errorf("fragment %d: first %v, last %v", n, first, last)
			}
		}
		if !bytes.Equal(carried, request) {
			t.Errorf("%d bytes were carried, want %d", len(carried), len(request))
		}
	}
}

func TestRefusals(t *testing.T) {
	pipe := &scripted{}
	c := bound(t, pipe, 5840)
	pipe.answers.Write(fragment(typeFault, 3, 2, append(make([]byte, 8), 2, 0, 1, 0x1C)))
	var fault *Fault
	if _, err := c.Call(1, nil); !errors.As(err, &fault) || fault.Status != 0x1C010002 || fault.Error() == "" {
		t.Errorf("a fault: %v", err)
	}
	nak := &scripted{}
	nak.answers.Write(fragment(typeBindNak, 3, 1, []byte{0, 0}))
	if _, err := Bind(nak, Interface{Pipe: "test"}); err == nil {
		t.Error("a refused binding is taken for one")
	}
}

func TestBrokenAnswers(t *testing.T) {
	for what, answer := range map[string][]byte{
		"nothing":                 nil,
		"cut short":               response(3, 2, make([]byte, 100))[:60],
		"another call's":          response(3, 9, []byte{1, 2, 3, 4}),
		"no first fragment":       response(2, 2, []byte{1, 2, 3, 4}),
		"first fragment twice":    append(response(1, 2, []byte{1}), response(3, 2, []byte{1})...),
		"an endless empty answer": append(response(1, 2, nil), response(0, 2, nil)...),
		"a binding":               acknowledgement(4000),
		"too small to be one":     {5, 0, 2, 3, 0x10, 0, 0, 0, 3, 0, 0, 0, 2, 0, 0, 0},
		"big-endian":              {5, 0, 2, 3, 0, 0, 0, 0, 0, 24, 0, 0, 0, 0, 0, 2},
	} {
		pipe := &scripted{}
		c := bound(t, pipe, 4000)
		pipe.answers.Write(answer)
		if _, err := c.Call(1, nil); !errors.Is(err, ErrMalformed) && !errors.Is(err, io.ErrUnexpectedEOF) {
			t.Errorf("%s: %v", what, err)
		}
	}
}

func FuzzAnswers(f *testing.F) {
	f.Add(append(acknowledgement(4000), response(3, 2, []byte{1, 2, 3, 4})...))
	f.Add(append(acknowledgement(4000), fragment(typeFault, 3, 2, make([]byte, 16))...))
	f.Fuzz(func(t *testing.T, b []byte) {
		pipe := &scripted{piece: 1 + len(b)%50}
		pipe.answers.Write(b)
		if c, err := Bind(pipe, Interface{Pipe: "test"}); err == nil {
			_, _ = c.Call(1, make([]byte, len(b)))
		}
	})
}
