package smb_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"

	"bridgespan/core/chunk"
	"bridgespan/standin/fileserver"
	"bridgespan/standin/standintest"
	"bridgespan/standin/tamper"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// copyAsked counts, on the wire, how often a server is asked to copy within itself.
type copyAsked struct {
	mu      sync.Mutex
	n, sent int // requests to copy; bytes that were sent in all
}

func (a *copyAsked) take() (n, sent int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	n, sent = a.n, a.sent
	a.n, a.sent = 0, 0
	return n, sent
}

// message looks at a message of a client: its head is 64 bytes long, with the command at
// 12; a control request has its code at 4 after that ([MS-SMB2] 2.2.1.2, 2.2.31).
func (a *copyAsked) message(m []byte) {
	const ioctl, copyChunk = 0x000B, 0x001440F2
	a.mu.Lock()
	defer a.mu.Unlock()
	a.sent += len(m)
	if len(m) > 72 && binary.LittleEndian.Uint16(m[12:]) == ioctl && binary.LittleEndian.Uint32(m[68:]) == copyChunk {
		a.n++
	}
}

// between lets a see what passes between a client and a server. It returns where it
// listens.
func between(t *testing.T, server string, a *copyAsked) string {
	t.Helper()
	p, err := tamper.Start(server, func(m []byte) []byte { a.message(m); return m }, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Stop)
	return p.Address()
}

// For each window of 16 MiB the server is asked once, however long the file is, and
// nothing crosses but what it lacks.
func testOnTheWire(t *testing.T, server *fileserver.Server) {
	const window, mib = 16 << 20, 1 << 20
	var asked copyAsked
	session, err := smb.Dial(t.Context(), smb.Target{Address: between(t, server.HostPort(), &asked), Account: "warden", Password: standintest.Password("warden")})
	if err != nil {
		t.Fatal(err)
	}
	defer session.Close()
	root := share(t, session, "store", "")
	base := make([]byte, 5*window+mib)
	_, _ = rand.NewChaCha8([32]byte{7}).Read(base)
	size := int64(len(base))
	if _, err := root.Put(t.Context(), "long", bytes.NewReader(base), tree.PutOptions{}); err != nil {
		t.Fatal(err)
	}
	part := func(at, length, from int64) chunk.Part { return chunk.Part{At: at, Length: length, From: from} }
	for i, c := range []struct {
		parts []chunk.Part
		want  int
	}{
		{[]chunk.Part{part(0, size, 0)}, 1 + 6}, // the first is refused: whether it copies at all
		{[]chunk.Part{part(0, size, 0)}, 6},
		{[]chunk.Part{part(0, 40, -1), part(40, size-40, 40)}, 6},
		{[]chunk.Part{part(0, 100, 0), part(100, 40, -1), part(140, size-100, 100)}, 1 + 6},
		{[]chunk.Part{part(0, 2*window, 2*window), part(2*window, mib, size-mib)}, 2 + 2}, // the end is copied aside
		{[]chunk.Part{part(0, mib, 5*window), part(mib, mib, 5*window), part(2*mib, 5, 0)}, 1 + 3},
	} {
		var want []byte
		lacks := int64(0)
		for _, p := range c.parts {
			if p.From < 0 {
				want, lacks = append(want, make([]byte, p.Length)...), lacks+p.Length
				continue
			}
			want = append(want, base[p.From:p.From+p.Length]...)
		}
		name := fmt.Sprint("of parts ", i)
		asked.take()
		_, err := root.Assemble(t.Context(), name, "long", c.parts, bytes.NewReader(want), tree.PutOptions{Size: int64(len(want)), SizeKnown: true})
		n, sent := asked.take()
		if err != nil || n != c.want || int64(sent) > lacks+20_000 {
			t.Errorf("%v: the server was asked %d times, want %d; %d bytes were sent for %d; %v", c.parts, n, c.want, sent, lacks, err)
		}
		if got, err := tree.ReadFile(t.Context(), root, name); err != nil || !bytes.Equal(got, want) {
			t.Errorf("%v: %d bytes of %d, or others; %v", c.parts, len(got), len(want), err)
		}
	}
}
