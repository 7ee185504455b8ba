package smb

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"net"
	"sync/atomic"
	"time"

	"bridgespan/tree"
)

// frameHead is the length of what stands before each message of SMB over TCP: a
// zero and the message's length ([MS-SMB2] 2.1).
const frameHead = 4

// readAhead is how much is read from a server at once: many small answers, or the
// beginning of a large one. No message that is longer is copied to be written.
const readAhead = 64 << 10

// frames is a connection that carries messages whole. The protocol library writes
// and reads the head of a message by itself, which costs both ends a system call
// more, and wakes the server for four bytes.
//
// As with the library's own use, one goroutine at a time may write, and one read.
type frames struct {
	net.Conn
	in  *bufio.Reader
	out []byte // the head that waits for its message; room for both

	// Answers are looked at before the library gets them: how long they are, and while
	// nobody is signed in, what they say.
	open    atomic.Bool
	left    int                   // bytes of the answer that is being read
	last    atomic.Int64          // when something came, in nanoseconds of Unix time
	refused atomic.Pointer[error] // why an answer did not go through
}

func newFrames(c net.Conn) *frames {
	f := &frames{Conn: c, in: bufio.NewReaderSize(c, readAhead)}
	f.last.Store(time.Now().UnixNano())
	return f
}

// lastReceived is when something came from the server.
func (f *frames) lastReceived() time.Time { return time.Unix(0, f.last.Load()) }

func (f *frames) Read(p []byte) (int, error) {
	if f.left == 0 {
		length, err := f.admit()
		if err != nil {
			f.refused.Store(&err)
			return 0, err
		}
		f.left = length
	}
	n, err := f.in.Read(p[:min(len(p), f.left)])
	f.left -= n
	f.last.Store(time.Now().UnixNano())
	return n, err
}

// Parts of a message ([MS-SMB2] 2.2.1.2 and 2.2.6): where they stand, behind the head of
// the frame, and what they say.
const (
	commandAt, statusAt, nextAt, sessionFlagsAt = 12, 8, 20, 66

	leastAnswer  = 72
	mostFrame    = 9 << 20 // no server offers more than 8 MiB at a time
	sessionSetup = 1
	asGuest      = 0x1
	asNobody     = 0x2
)

// admit looks at the next answer, and returns how long its frame is. The library takes a
// session of a guest for one of the account, and asks for no signatures in it: nobody
// could tell then who answers.
func (f *frames) admit() (length int, err error) {
	head, err := f.in.Peek(frameHead)
	if err != nil {
		return 0, err
	}
	length = frameHead + int(binary.BigEndian.Uint32(head))
	if f.open.Load() { // it came after somebody had signed in
		if length > mostFrame {
			return 0, fmt.Errorf("%w: an answer of %d bytes", tree.ErrUntrusted, length-frameHead)
		}
		return length, nil
	}
	if length < frameHead+leastAnswer || length > readAhead {
		return 0, fmt.Errorf("%w: an answer of %d bytes before anybody is signed in", tree.ErrUntrusted, length-frameHead)
	}
	frame, err := f.in.Peek(frameHead + leastAnswer)
	if err != nil {
		return 0, err
	}
	answer := frame[frameHead:]
	switch {
	case string(answer[:4]) != "\xfeSMB" || binary.LittleEndian.Uint32(answer[nextAt:]) != 0:
		return 0, fmt.Errorf("%w: an answer in another form before anybody is signed in", tree.ErrUntrusted)
	case binary.LittleEndian.Uint16(answer[commandAt:]) != sessionSetup || binary.LittleEndian.Uint32(answer[statusAt:]) != 0:
		return length, nil
	case binary.LittleEndian.Uint16(answer[sessionFlagsAt:])&(asGuest|asNobody) != 0:
		return 0, ErrGuest
	}
	return length, nil
}

// signedIn lets all answers through from now on, when signing in came out well.
func (f *frames) signedIn(err error) error {
	if refused := f.refused.Load(); refused != nil {
		return *refused
	}
	f.open.Store(err == nil)
	return err
}

// Write holds the head of a message back until the message comes.
func (f *frames) Write(p []byte) (int, error) {
	if len(p) == frameHead && len(f.out) == 0 {
		f.out = append(f.out, p...)
		return len(p), nil
	}
	head := len(f.out)
	var n int64
	var err error
	if len(p) > readAhead {
		both := net.Buffers{f.out, p}
		n, err = both.WriteTo(f.Conn)
	} else {
		f.out = append(f.out, p...)
		var written int
		written, err = f.Conn.Write(f.out)
		n = int64(written)
	}
	f.out = f.out[:0]
	return max(int(n)-head, 0), err
}
