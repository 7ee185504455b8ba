package smbadmin

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"net"
	"testing"
	"time"

	"bridgespan/standin/process"
	"bridgespan/standin/standintest"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

func TestAgainstRealServer(t *testing.T) {
	server := standintest.FileServer(t, "elm", "store", "archive")
	g, err := Negotiate(t.Context(), server.HostPort())
	if err != nil {
		t.Fatal(err)
	}
	if g.DialectName() != "SMB 3.1.1" || g.Encryption == "" || g.ClockDifference.Abs() > 5*time.Second {
		t.Errorf("greeting %+v", g)
	}
	session, err := smb.Dial(t.Context(), smb.Target{Address: server.HostPort(), Account: "warden", Password: standintest.Password("warden")})
	if err != nil {
		t.Fatal(err)
	}
	defer session.Close()
	shares, err := Shares(t.Context(), session)
	if err != nil {
		t.Fatal(err)
	}
	want := []Share{{"archive", "Test share archive", "disk", false}, {"IPC$", "", "pipes", true}, {"store", "Test share store", "disk", false}}
	if len(shares) != len(want) {
		t.Fatalf("shares %+v", shares)
	}
	for i := range want {
		shares[1].Note = "" // the server's own words
		if shares[i] != want[i] {
			t.Errorf("share %+v, want %+v", shares[i], want[i])
		}
	}
}

func TestNegotiateWithStrangers(t *testing.T) {
	port, err := process.FreePort("127.0.0.1")
	if err != nil {
		t.Fatal(err)
	}
	nobody := net.TCPAddr{IP: net.IPv4(127, 0, 0, 1), Port: port}
	if _, err := Negotiate(t.Context(), nobody.String()); !errors.Is(err, tree.ErrUnreachable) {
		t.Errorf("nobody listens: %v", err)
	}
	for _, answer := range []string{"", "HTTP/1.1 400 Bad Request\r\n\r\n", "\x00\x00\x00\x40short", "\xff\xff\xff\xff"} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		go func() {
			conn, err := l.Accept()
			if err == nil {
				_, _ = conn.Write([]byte(answer))
				conn.Close()
			}
		}()
		ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
		if _, err := Negotiate(ctx, l.Addr().String()); !errors.Is(err, ErrNotSMB) {
			t.Errorf("answer %q: %v, want ErrNotSMB", answer, err)
		}
		cancel()
		l.Close()
	}
}

func FuzzParseGreeting(f *testing.F) {
	frame := make([]byte, 64+64)
	copy(frame, "\xfeSMB")
	binary.LittleEndian.PutUint16(frame[68:], 0x0311)
	binary.LittleEndian.PutUint16(frame[70:], 3)
	f.Add(frame)
	f.Add(bytes.Repeat([]byte{0xff}, 200))
	f.Fuzz(func(t *testing.T, frame []byte) {
		_, _ = parseGreeting(frame)
		_, _ = readFrame(bytes.NewReader(frame))
	})
}
