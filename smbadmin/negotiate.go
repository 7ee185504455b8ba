package smbadmin

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"time"

	"bridgespan/tree"
)

// Greeting is what a server says of itself before anyone signs in
// ([MS-SMB2] 2.2.4, the NEGOTIATE response).
type Greeting struct {
	Dialect          uint16 // such as 0x0311 for SMB 3.1.1
	SigningRequired  bool
	Encryption       string        // the cipher it would use, or "" when it offers none
	Clock            time.Time     // its time when it answered
	ClockDifference  time.Duration // its clock minus ours; half the round trip is allowed for
	ConnectRoundTrip time.Duration
	// Server is the number of the machine, the same by whatever name it is reached (ServerGuid).
	Server [16]byte
}

// DialectName is how people call the dialect.
func (g Greeting) DialectName() string {
	names := map[uint16]string{0x0202: "SMB 2.0.2", 0x0210: "SMB 2.1", 0x0300: "SMB 3.0", 0x0302: "SMB 3.0.2", 0x0311: "SMB 3.1.1"}
	if name, ok := names[g.Dialect]; ok {
		return name
	}
	return fmt.Sprintf("dialect 0x%04x", g.Dialect)
}

// ErrNotSMB: something answers at the address and does not speak SMB 2 or 3.
var ErrNotSMB = errors.New("what answers there does not speak SMB 2 or 3")

// ErrUnknownName: the host name cannot be resolved here.
var ErrUnknownName = errors.New("the name is not known here")

// findWithin bounds the wait for an answer.
const findWithin = 5 * time.Second

// Find looks for a file service as clients do: by host name, at port 445. It returns nil when one answers, and
// ErrUnknownName when the name cannot be resolved.
func Find(ctx context.Context, host string) error {
	ctx, cancel := context.WithTimeout(ctx, findWithin)
	defer cancel()
	if _, err := net.DefaultResolver.LookupHost(ctx, host); err != nil {
		return fmt.Errorf("%w: %w", ErrUnknownName, err)
	}
	_, err := Negotiate(ctx, net.JoinHostPort(host, "445"))
	return err
}

// Negotiate connects, exchanges greetings and hangs up.
func Negotiate(ctx context.Context, address string) (Greeting, error) {
	start := time.Now()
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", address)
	if err != nil {
		return Greeting{}, fmt.Errorf("%w: %w", tree.ErrUnreachable, err)
	}
	defer conn.Close()
	trip := time.Since(start)
	if deadline, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(deadline)
	}
	sent := time.Now()
	if _, err := conn.Write(negotiateRequest()); err != nil {
		return Greeting{}, fmt.Errorf("%w: %w", tree.ErrUnreachable, err)
	}
	response, err := readFrame(conn)
	if err != nil {
		return Greeting{}, err
	}
	received := time.Now()
	g, err := parseGreeting(response)
	g.ConnectRoundTrip = trip
	g.ClockDifference = g.Clock.Sub(sent.Add(received.Sub(sent) / 2))
	return g, err
}

// maxGreeting bounds what a server may answer, in bytes.
const maxGreeting = 64 << 10

// readFrame reads one message with the 4-byte length in front of it ([MS-SMB2] 2.1).
func readFrame(r io.Reader) ([]byte, error) {
	var head [4]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNotSMB, err)
	}
	length := binary.BigEndian.Uint32(head[:])
	if length < 64 || length > maxGreeting {
		return nil, ErrNotSMB
	}
	frame := make([]byte, length)
	if _, err := io.ReadFull(r, frame); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNotSMB, err)
	}
	return frame, nil
}

// negotiateRequest builds the NEGOTIATE request ([MS-SMB2] 2.2.3) that offers
// every dialect and cipher, so that the answer shows the server's best.
func negotiateRequest() []byte {
	le := binary.LittleEndian
	header := make([]byte, 64)
	copy(header, "\xfeSMB")
	le.PutUint16(header[4:], 64)
	le.PutUint16(header[14:], 1) // credits asked for

	dialects := []uint16{0x0202, 0x0210, 0x0300, 0x0302, 0x0311}
	body := make([]byte, 36)
	le.PutUint16(body, 36)
	le.PutUint16(body[2:], uint16(len(dialects)))
	le.PutUint16(body[4:], 1)    // signing possible
	le.PutUint32(body[8:], 0x7f) // all capabilities
	_, _ = rand.Read(body[12:28])
	for _, d := range dialects {
		body = le.AppendUint16(body, d)
	}
	for (64+len(body))%8 != 0 {
		body = append(body, 0)
	}
	le.PutUint32(body[28:], uint32(64+len(body)))
	le.PutUint16(body[32:], 2)
	body = appendContext(body, 1, append([]byte{1, 0, 32, 0, 1, 0}, make([]byte, 32)...)) // SHA-512 and a salt
	body = appendContext(body, 2, []byte{4, 0, 2, 0, 1, 0, 4, 0, 3, 0})                   // AES-GCM and CCM, 128 and 256

	frame := binary.BigEndian.AppendUint32(nil, uint32(len(header)+len(body)))
	return append(append(frame, header...), body...)
}

// appendContext adds a negotiate context ([MS-SMB2] 2.2.3.1), aligned to eight bytes.
func appendContext(body []byte, kind uint16, data []byte) []byte {
	for len(body)%8 != 0 {
		body = append(body, 0)
	}
	body = binary.LittleEndian.AppendUint16(body, kind)
	body = binary.LittleEndian.AppendUint16(body, uint16(len(data)))
	body = append(body, 0, 0, 0, 0)
	return append(body, data...)
}

var ciphers = map[uint16]string{1: "AES-128-CCM", 2: "AES-128-GCM", 3: "AES-256-CCM", 4: "AES-256-GCM"}

// parseGreeting reads a NEGOTIATE response from its header on.
func parseGreeting(frame []byte) (Greeting, error) {
	le := binary.LittleEndian
	if len(frame) < 64+64 || string(frame[:4]) != "\xfeSMB" {
		return Greeting{}, ErrNotSMB
	}
	if status := le.Uint32(frame[8:]); status != 0 {
		return Greeting{}, fmt.Errorf("%w: status 0x%08x", ErrNotSMB, status)
	}
	body := frame[64:]
	g := Greeting{
		SigningRequired: le.Uint16(body[2:])&2 != 0,
		Dialect:         le.Uint16(body[4:]),
		Clock:           fromFiletime(le.Uint64(body[40:])),
		Server:          [16]byte(body[8:24]),
	}
	switch {
	case g.Dialect == 0x0311:
		g.Encryption = ciphers[chosenCipher(frame, int(le.Uint32(body[60:])), int(le.Uint16(body[6:])))]
	case g.Dialect >= 0x0300 && le.Uint32(body[24:])&0x40 != 0:
		g.Encryption = ciphers[1]
	}
	return g, nil
}

// chosenCipher finds the cipher among the negotiate contexts; 0 when there is none.
func chosenCipher(frame []byte, offset, count int) uint16 {
	le := binary.LittleEndian
	for range count {
		if offset < 0 || offset+8 > len(frame) {
			return 0
		}
		kind, length := le.Uint16(frame[offset:]), int(le.Uint16(frame[offset+2:]))
		data := frame[offset+8:]
		if kind == 2 && length >= 4 && len(data) >= 4 {
			return le.Uint16(data[2:])
		}
		offset += (8 + length + 7) / 8 * 8
	}
	return 0
}

// fromFiletime converts 100 ns steps since 1601 ([MS-DTYP] 2.3.3).
func fromFiletime(t uint64) time.Time {
	const to1970 = 116444736000000000
	return time.Unix(0, 0).Add(time.Duration(int64(t)-to1970) * 100)
}
