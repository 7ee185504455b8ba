package leg

import (
	"bytes"
	"io"
	"net"
	"testing"
	"time"
)

// echo is a server that sends back what it gets.
func echo(t *testing.T) string {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			c, err := listener.Accept()
			if err != nil {
				return
			}
			go func() { defer c.Close(); _, _ = io.Copy(c, c) }()
		}
	}()
	return listener.Addr().String()
}

// What goes through arrives whole, no faster than the leg and no nearer.
func TestLeg(t *testing.T) {
	const rtt = 40 * time.Millisecond
	l, err := Start("127.0.0.1:0", echo(t), 80, rtt) // 10 MB/s
	if err != nil {
		t.Fatal(err)
	}
	defer l.Stop()
	c, err := net.Dial("tcp", l.Address())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	begin := time.Now()
	answer := make([]byte, 4)
	if _, err := c.Write([]byte("ping")); err != nil {
		t.Fatal(err)
	}
	if _, err := io.ReadFull(c, answer); err != nil || string(answer) != "ping" {
		t.Fatalf("%q, %v", answer, err)
	}
	if took := time.Since(begin); took < rtt {
		t.Errorf("a round trip took %v, less than %v", took, rtt)
	}
	sent := bytes.Repeat([]byte("leaf"), 500_000) // 2 MB: 0.2 s
	begin = time.Now()
	go func() { _, _ = c.Write(sent) }()
	got := make([]byte, len(sent))
	if _, err := io.ReadFull(c, got); err != nil || !bytes.Equal(got, sent) {
		t.Fatalf("what arrived differs, %v", err)
	}
	if crossed, want := l.Crossed(), int64(2*(len("ping")+len(sent))); crossed != want {
		t.Errorf("%d bytes have crossed, want %d", crossed, want)
	}
	if took := time.Since(begin); took < 190*time.Millisecond {
		t.Errorf("2 MB took %v at 10 MB/s", took)
	}
	l.Stop()
	if _, err := c.Read(answer); err == nil {
		t.Error("a connection outlives its leg")
	}
}

// A target that is not there ends the connection.
func TestNoTarget(t *testing.T) {
	l, err := Start("127.0.0.1:0", "127.0.0.1:1", 100, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Stop()
	c, err := net.Dial("tcp", l.Address())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if _, err := c.Read(make([]byte, 1)); err == nil {
		t.Error("something answers")
	}
}
