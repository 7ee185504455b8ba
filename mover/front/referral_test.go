package front_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"testing"
	"unicode/utf16"

	corefront "bridgespan/core/front"
	"bridgespan/mover/front"
	"bridgespan/standin/standintest"
)

// recorder passes on what goes between clients and a server, and keeps what the server says.
type recorder struct {
	mu   sync.Mutex
	said bytes.Buffer
}

func (r *recorder) Write(p []byte) (int, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.said.Write(p)
}

// record listens at another address in the place of a server.
func record(t *testing.T, server string) (address string, r *recorder) {
	t.Helper()
	host, port, err := net.SplitHostPort(server)
	if err != nil {
		t.Fatal(err)
	}
	address = host[:strings.LastIndexByte(host, '.')] + ".252"
	l, err := net.Listen("tcp", net.JoinHostPort(address, port))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	r = &recorder{}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				up, err := net.Dial("tcp", server)
				if err != nil {
					return
				}
				defer up.Close()
				go func() { _, _ = io.Copy(up, c) }()
				_, _ = io.Copy(io.MultiWriter(c, r), up)
			}()
		}
	}()
	return address, r
}

// referral is the answer to a request for referrals (control code 0x00060194 of the open specification of
// SMB referrals, its section 2.2.4) in what a server said: for how many seconds it may be kept, and the
// places in their order.
func referral(said []byte, path string) (ttl uint32, places []string, err error) {
	for at := 0; ; {
		i := bytes.Index(said[at:], []byte{49, 0, 0, 0, 0x94, 0x01, 0x06, 0x00})
		if i < 0 {
			return 0, nil, errors.New("no referral was given")
		}
		at += i + 8
		body := said[at+40:] // after the rest of the response's fixed part
		if len(body) < 28 {
			return 0, nil, io.ErrUnexpectedEOF
		}
		count, entries := int(binary.LittleEndian.Uint16(body[2:])), body[8:]
		ttl, places = 0, nil
		asked := ""
		for range count {
			if len(entries) < 18 {
				return 0, nil, io.ErrUnexpectedEOF
			}
			ttl = binary.LittleEndian.Uint32(entries[8:])
			asked = text(entries[binary.LittleEndian.Uint16(entries[12:]):])
			places = append(places, text(entries[binary.LittleEndian.Uint16(entries[16:]):]))
			entries = entries[binary.LittleEndian.Uint16(entries[2:]):]
		}
		if strings.HasSuffix(asked, path) {
			return ttl, places, nil
		}
	}
}

// text is UTF-16 up to its end mark.
func text(b []byte) string {
	var units []uint16
	for ; len(b) >= 2; b = b[2:] {
		u := binary.LittleEndian.Uint16(b)
		if u == 0 {
			break
		}
		units = append(units, u)
	}
	return string(utf16.Decode(units))
}

// A client that asks where a link leads is given all places in their order, to be kept for as long
// as is said wherever a change of a front is announced.
func TestReferral(t *testing.T) {
	at, one := standintest.FrontServer(t, "bracken"), standintest.OnStandardPort(t, "fern", "herbarium")
	k, err := front.Open(at.FrontsFolder(), t.TempDir(), at.Configuration())
	if err != nil {
		t.Fatal(err)
	}
	if err := k.Make(t.Context(), "trust"); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Offer(t.Context(), "trust", ""); err != nil {
		t.Fatal(err)
	}
	want := []string{one.Address + `\herbarium`, `192.0.2.1\copy\deep down`}
	if _, err := k.Write(t.Context(), "trust", []change{{Entry: corefront.Entry{Path: "herbarium", To: want}}}); err != nil {
		t.Fatal(err)
	}
	through, r := record(t, at.HostPort())
	out, err := exec.Command("smbclient", "//"+through+"/trust", "-U", "ada%"+standintest.Password("ada"), "-m", "SMB3", "-c", "cd herbarium; ls").CombinedOutput()
	if err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	ttl, places, err := referral(r.said.Bytes(), `\trust\herbarium`)
	for i, p := range places {
		places[i] = strings.TrimPrefix(p, `\`)
	}
	const tenMinutes = 600
	if err != nil || ttl != tenMinutes || !slices.Equal(places, want) {
		t.Errorf("for %d s it leads to %q, %v; want %q", ttl, places, err, want)
	}
}
