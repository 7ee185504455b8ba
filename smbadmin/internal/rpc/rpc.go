// Package rpc calls remote procedures over a named pipe (DCE 1.1: Remote
// Procedure Call, chapter 12; [MS-RPCE]).
//
// A [Client] is bound to one interface and makes one call at a time. Requests
// and answers of any length travel as fragments; what the server refuses comes
// back as a [*Fault]. Whatever a server sends, the client neither panics nor
// reads more than MaxAnswer bytes.
package rpc

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// MaxAnswer bounds the answer to one call, in bytes.
const MaxAnswer = 64 << 20

// ErrMalformed is wrapped by errors about answers that are not of the protocol.
var ErrMalformed = errors.New("malformed answer of the server")

// Interface is one set of procedures.
type Interface struct {
	Pipe         string
	UUID         [16]byte // in wire order
	Major, Minor uint16
}

// Fault is the refusal of a call by the server's call layer.
type Fault struct{ Status uint32 }

func (f *Fault) Error() string {
	reason := map[uint32]string{
		0x00000005: "access denied", 0x1C010002: "the server does not offer this call", 0x1C010003: "the server does not offer this interface",
		0x1C00001A: "the connection to the procedure is gone", 0x000006F7: "the server could not read the request", 0x1C000024: "the procedure failed",
	}[f.Status]
	if reason == "" {
		reason = "the server refuses the call"
	}
	return fmt.Sprintf("%s (fault 0x%08x)", reason, f.Status)
}

// Types and flags of fragments (DCE 1.1 RPC, 12.6.3).
const (
	typeRequest  = 0
	typeResponse = 2
	typeFault    = 3
	typeBind     = 11
	typeBindAck  = 12
	typeBindNak  = 13

	firstFragment = 1
	lastFragment  = 2

	headerSize        = 16
	requestHeaderSize = headerSize + 8
	// maxFragment is what we send and take; servers answer with what they take.
	maxFragment = 5840
	minFragment = 1432 // what everybody must take
)

// ndrSyntax is the transfer syntax, version 2.
var ndrSyntax = [16]byte{0x04, 0x5d, 0x88, 0x8a, 0xeb, 0x1c, 0xc9, 0x11, 0x9f, 0xe8, 0x08, 0x00, 0x2b, 0x10, 0x48, 0x60}

// Client is bound to an interface. It is for one goroutine at a time.
type Client struct {
	pipe    io.ReadWriter
	call    uint32
	maxSend int
	held    []byte // read, and not used yet
	buffer  []byte
}

// Bind binds pipe to an interface.
func Bind(pipe io.ReadWriter, i Interface) (*Client, error) {
	c := &Client{pipe: pipe, maxSend: minFragment, buffer: make([]byte, 64<<10)}
	var body []byte
	body = binary.LittleEndian.AppendUint16(body, maxFragment)
	body = binary.LittleEndian.AppendUint16(body, maxFragment)
	body = append(body, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 1, 0)
	body = append(body, i.UUID[:]...)
	body = binary.LittleEndian.AppendUint16(body, i.Major)
	body = binary.LittleEndian.AppendUint16(body, i.Minor)
	body = append(body, ndrSyntax[:]...)
	body = append(body, 2, 0, 0, 0)
	c.call++
	if err := c.send(typeBind, firstFragment|lastFragment, body); err != nil {
		return nil, err
	}
	kind, _, answer, err := c.fragment()
	if err != nil {
		return nil, err
	}
	if kind == typeBindNak {
		return nil, fmt.Errorf("the server does not offer %s", i.Pipe)
	}
	if kind != typeBindAck {
		return nil, fmt.Errorf("%w: type %d where a binding is acknowledged", ErrMalformed, kind)
	}
	return c, c.acknowledged(answer, i)
}

// acknowledged reads how the server takes the binding.
func (c *Client) acknowledged(b []byte, i Interface) error {
	if len(b) < 10 {
		return fmt.Errorf("%w: acknowledgement cut short", ErrMalformed)
	}
	c.maxSend = min(maxFragment, max(minFragment, int(binary.LittleEndian.Uint16(b[2:]))))
	at := 10 + int(binary.LittleEndian.Uint16(b[8:]))
	at = (at + 3) / 4 * 4
	if len(b) < at+8 {
		return fmt.Errorf("%w: acknowledgement cut short", ErrMalformed)
	}
	if result := binary.LittleEndian.Uint16(b[at+4:]); b[at] != 1 || result != 0 {
		return fmt.Errorf("the server does not offer %s (result %d)", i.Pipe, result)
	}
	return nil
}

// Call calls a procedure by its number and returns its results.
func (c *Client) Call(procedure uint16, parameters []byte) ([]byte, error) {
	c.call++
	flags := byte(firstFragment)
	for rest := parameters; ; flags = 0 {
		n := min(len(rest), c.maxSend-requestHeaderSize)
		if n == len(rest) {
			flags |= lastFragment
		}
		body := binary.LittleEndian.AppendUint32(nil, uint32(len(rest)))
		body = append(body, 0, 0)
		body = binary.LittleEndian.AppendUint16(body, procedure)
		if err := c.send(typeRequest, flags, append(body, rest[:n]...)); err != nil {
			return nil, err
		}
		if rest = rest[n:]; flags&lastFragment != 0 {
			break
		}
	}
	return c.answer()
}

// answer gathers the fragments of an answer.
func (c *Client) answer() ([]byte, error) {
	var gathered []byte
	for first := true; ; first = false {
		kind, flags, body, err := c.fragment()
		if err != nil {
			return nil, err
		}
		if len(body) < 8 {
			return nil, fmt.Errorf("%w: answer cut short", ErrMalformed)
		}
		switch kind {
		case typeFault:
			if len(body) < 12 {
				return nil, fmt.Errorf("%w: fault cut short", ErrMalformed)
			}
			return nil, &Fault{binary.LittleEndian.Uint32(body[8:])}
		case typeResponse:
		default:
			return nil, fmt.Errorf("%w: type %d where an answer is expected", ErrMalformed, kind)
		}
		if first != (flags&firstFragment != 0) {
			return nil, fmt.Errorf("%w: fragments out of order", ErrMalformed)
		}
		if gathered = append(gathered, body[8:]...); len(gathered) > MaxAnswer {
			return nil, fmt.Errorf("%w: more than %d bytes", ErrMalformed, MaxAnswer)
		}
		if flags&lastFragment != 0 {
			return gathered, nil
		}
		if len(body) == 8 {
			return nil, fmt.Errorf("%w: an empty fragment that is not the last", ErrMalformed)
		}
	}
}

func (c *Client) send(kind, flags byte, body []byte) error {
	b := make([]byte, headerSize, headerSize+len(body))
	b[0], b[2], b[3], b[4] = 5, kind, flags, 0x10 // version 5.0, little-endian
	binary.LittleEndian.PutUint16(b[8:], uint16(headerSize+len(body)))
	binary.LittleEndian.PutUint32(b[12:], c.call)
	_, err := c.pipe.Write(append(b, body...))
	return err
}

// fragment reads one fragment, and returns what follows its header; that is
// valid until the next call.
func (c *Client) fragment() (kind, flags byte, body []byte, err error) {
	if err := c.fill(headerSize); err != nil {
		return 0, 0, nil, err
	}
	h := c.held[:headerSize]
	size := int(binary.LittleEndian.Uint16(h[8:]))
	switch {
	case h[0] != 5 || h[4]&0xF0 != 0x10:
		return 0, 0, nil, fmt.Errorf("%w: not a fragment of version 5 in little-endian order", ErrMalformed)
	case size < headerSize:
		return 0, 0, nil, fmt.Errorf("%w: a fragment of %d bytes", ErrMalformed, size)
	case binary.LittleEndian.Uint16(h[10:]) != 0:
		return 0, 0, nil, fmt.Errorf("%w: a verifier that nobody asked for", ErrMalformed)
	case binary.LittleEndian.Uint32(h[12:]) != c.call:
		return 0, 0, nil, fmt.Errorf("%w: the answer to another call", ErrMalformed)
	}
	if err := c.fill(size); err != nil {
		return 0, 0, nil, err
	}
	whole := c.held[:size]
	c.held = c.held[size:]
	return whole[2], whole[3], whole[headerSize:], nil
}

// fill reads until n bytes are held. A server that gives nothing, twice, has nothing more.
func (c *Client) fill(n int) error {
	for idle := 0; len(c.held) < n; {
		got, err := c.pipe.Read(c.buffer)
		c.held = append(c.held, c.buffer[:got]...)
		if got > 0 {
			idle = 0
			continue
		}
		if err == nil {
			if idle++; idle < 2 {
				continue
			}
			err = io.ErrUnexpectedEOF
		}
		if errors.Is(err, io.EOF) {
			err = io.ErrUnexpectedEOF
		}
		return err
	}
	return nil
}
