package smb

import (
	"bufio"
	"net"
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
}

func newFrames(c net.Conn) *frames { return &frames{Conn: c, in: bufio.NewReaderSize(c, readAhead)} }

func (f *frames) Read(p []byte) (int, error) { return f.in.Read(p) }

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
