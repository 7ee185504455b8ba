package smb

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"testing"
)

// recorder is the other end of a connection: it keeps what is written, piece by piece.
type recorder struct {
	net.Conn
	pieces [][]byte
	in     bytes.Buffer
	reads  int
	bad    error
}

func (r *recorder) Write(p []byte) (int, error) {
	if r.bad != nil {
		return len(p) / 2, r.bad
	}
	r.pieces = append(r.pieces, bytes.Clone(p))
	return len(p), nil
}

func (r *recorder) Read(p []byte) (int, error) {
	r.reads++
	return r.in.Read(p)
}

// send writes a message as the protocol library does.
func send(t *testing.T, w io.Writer, message []byte) {
	t.Helper()
	for _, p := range [][]byte{binary.BigEndian.AppendUint32(nil, uint32(len(message))), message} {
		if n, err := w.Write(p); err != nil || n != len(p) {
			t.Fatalf("%d bytes written of %d: %v", n, len(p), err)
		}
	}
}

func TestFramesWritesMessagesWhole(t *testing.T) {
	r := &recorder{}
	f := newFrames(r)
	var want []byte
	for _, length := range []int{64, 64, 9000, readAhead, 4} {
		message := bytes.Repeat([]byte{byte(length)}, length)
		send(t, f, message)
		want = append(binary.BigEndian.AppendUint32(want, uint32(length)), message...)
	}
	if got := bytes.Join(r.pieces, nil); !bytes.Equal(got, want) {
		t.Errorf("%d bytes were sent, or others than the %d that were written", len(got), len(want))
	}
	if len(r.pieces) != 5 {
		t.Errorf("5 messages were sent in %d pieces", len(r.pieces))
	}
}

func TestFramesDoesNotCopyLargeMessages(t *testing.T) {
	r := &recorder{}
	f := newFrames(r)
	message := bytes.Repeat([]byte("abcdefgh"), 1<<17)
	send(t, f, message)
	send(t, f, []byte("and a small one after it"))
	got := bytes.Join(r.pieces, nil)
	if !bytes.Equal(got[4:4+len(message)], message) || !bytes.HasSuffix(got, []byte("\x00\x00\x00\x18and a small one after it")) {
		t.Error("what was sent is not what was written")
	}
	if cap(f.out) > readAhead+frameHead {
		t.Errorf("%d bytes are kept to copy to", cap(f.out))
	}
}

func TestFramesTellsWhatWasNotWritten(t *testing.T) {
	r := &recorder{bad: errors.New("the line is cut")}
	f := newFrames(r)
	if _, err := f.Write([]byte{0, 0, 0, 100}); err != nil {
		t.Fatal(err)
	}
	if n, err := f.Write(make([]byte, 100)); !errors.Is(err, r.bad) || n != 48 {
		t.Errorf("%d bytes, %v; 52 were sent, 4 of which are not of the message", n, err)
	}
}

func TestFramesReadsAhead(t *testing.T) {
	r := &recorder{}
	for range 100 {
		r.in.Write([]byte("\x00\x00\x00\x05reply"))
	}
	f := newFrames(r)
	f.open.Store(true)
	for range 100 {
		message := make([]byte, 9)
		if _, err := io.ReadFull(f, message[:4]); err != nil {
			t.Fatal(err)
		}
		if _, err := io.ReadFull(f, message[4:]); err != nil || string(message[4:]) != "reply" {
			t.Fatalf("%q: %v", message, err)
		}
	}
	if r.reads != 1 {
		t.Errorf("100 small answers were read in %d pieces", r.reads)
	}
}
