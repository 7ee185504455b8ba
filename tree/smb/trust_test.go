package smb_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
	"unicode/utf16"

	"bridgespan/standin/fileserver"
	"bridgespan/standin/standintest"
	"bridgespan/standin/tamper"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// through signs in through a proxy that changes what the server answers.
func through(t *testing.T, server *fileserver.Server, unsigned bool, reported func(error), change func([]byte) []byte) (*smb.Session, error) {
	t.Helper()
	p, err := tamper.Start(server.HostPort(), nil, change)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Stop)
	s, err := smb.Dial(t.Context(), smb.Target{Address: p.Address(), Account: "warden", Password: standintest.Password("warden"), Unsigned: unsigned, Untrusted: reported})
	if err == nil {
		t.Cleanup(func() { s.Close() })
	}
	return s, err
}

// onWire is a text as names are on the wire.
func onWire(text string) (b []byte) {
	for _, unit := range utf16.Encode([]rune(text)) {
		b = binary.LittleEndian.AppendUint16(b, unit)
	}
	return b
}

// renamed makes the server list a file under another name of the same length.
func renamed(from, to string) func([]byte) []byte {
	return tamper.Answers(tamper.QueryDirectory, func(body []byte) {
		if i := bytes.Index(body, onWire(from)); i >= 0 {
			copy(body[i:], onWire(to))
		}
	})
}

func putSmall(t *testing.T, root *smb.Tree) error {
	_, err := root.Put(t.Context(), "small.txt", strings.NewReader("small"), tree.PutOptions{Replace: true})
	return err
}

func listAll(t *testing.T, root *smb.Tree) error { return listOf(t, root, ".") }

// A server whose answers make no sense ends the session, not the program, and whoever
// wants to hears of it once. Where messages are signed, nobody between can do that.
func testHostileAnswers(t *testing.T, server *fileserver.Server) {
	count := func(n uint32) func([]byte) []byte {
		return tamper.Answers(tamper.Write, func(body []byte) { binary.LittleEndian.PutUint32(body[4:], n) })
	}
	if err := putSmall(t, share(t, dial(t, server, "warden"), "store", "")); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		change func([]byte) []byte
		do     func(*testing.T, *smb.Tree) error
	}{
		"more was written than was sent": {count(0x7fffffff), putSmall},
		"a little more":                  {count(6), putSmall},
		"less than nothing":              {count(0xffffffff), putSmall},
		"a name that leads out":          {renamed("small.txt", `../ll.txt`), listAll},
		"a name of the share's top":      {renamed("small.txt", `\mall.txt`), listAll},
	} {
		t.Run(name, func(t *testing.T) {
			for _, unsigned := range []bool{true, false} {
				var reports []error
				s, err := through(t, server, unsigned, func(err error) { reports = append(reports, err) }, c.change)
				if err != nil {
					t.Fatal(err)
				}
				root := share(t, s, "store", "")
				err = c.do(t, root)
				if err == nil || unsigned != errors.Is(err, tree.ErrUntrusted) {
					t.Errorf("unsigned %v: %v", unsigned, err)
				}
				if unsigned && (len(reports) != 1 || s.Alive(t.Context())) {
					t.Errorf("it was reported as %v, and the session is alive: %v", reports, s.Alive(t.Context()))
				}
			}
		})
	}
}

// Nobody is signed in by a server that takes them for a guest: it asked for no password,
// and what it answers then need not be signed.
func TestGuestsAreRefused(t *testing.T) {
	server := standintest.OpenFileServer(t, "elm", "store")
	for _, unsigned := range []bool{false, true} {
		for account, password := range map[string]string{"nobody-knows": "anything", "stranger": ""} {
			_, err := smb.Dial(t.Context(), smb.Target{Address: server.HostPort(), Account: account, Password: password, Unsigned: unsigned})
			if !errors.Is(err, smb.ErrGuest) || !errors.Is(err, smb.ErrSignIn) {
				t.Errorf("%s, unsigned %v: %v", account, unsigned, err)
			}
		}
		_, err := smb.Dial(t.Context(), smb.Target{Address: server.HostPort(), Account: "ada", Password: "wrong", Unsigned: unsigned})
		if !errors.Is(err, smb.ErrSignIn) {
			t.Errorf("a wrong password, unsigned %v: %v", unsigned, err)
		}
	}
	dial(t, server, "ada") // whom it knows it lets in
}

// Somebody between us and the server cannot make a guest of us either, nor change the
// form of what is answered before anybody is signed in.
func testBetweenSignIn(t *testing.T, server *fileserver.Server) {
	for name, c := range map[string]struct {
		change func(message []byte) []byte
		want   error
	}{
		"a guest":    {tamper.Answers(tamper.SessionSetup, func(body []byte) { body[2] |= 1 }), smb.ErrGuest},
		"nobody":     {tamper.Answers(tamper.SessionSetup, func(body []byte) { body[2] |= 2 }), smb.ErrGuest},
		"two in one": {func(m []byte) []byte { binary.LittleEndian.PutUint32(m[20:], 64); return m }, tree.ErrUntrusted},
		"too short":  {func(m []byte) []byte { return m[:40] }, tree.ErrUntrusted},
		"too long":   {func(m []byte) []byte { return slices.Concat(m, make([]byte, 1<<20)) }, tree.ErrUntrusted},
		"encrypted":  {func(m []byte) []byte { m[0] = 0xfd; return m }, tree.ErrUntrusted},
	} {
		if _, err := through(t, server, false, nil, c.change); !errors.Is(err, c.want) {
			t.Errorf("%s: %v, want %v", name, err, c.want)
		}
	}
}

// Whatever a server answers, a session ends with an error at worst.
func TestAnyAnswers(t *testing.T) {
	server := standintest.FileServer(t, "oak", "store")
	for seed := range 6 {
		n := 0
		change := func(m []byte) []byte {
			if n++; n <= 3 { // it is signed in
				return m
			}
			for i := range 2 {
				at := (seed*7919 + n*104729 + i*31) % len(m)
				if at >= 4 && at < 12 || at >= 64 { // its form, its outcome, or its content
					m[at] = byte(seed * (n + i + 1))
				}
			}
			return m
		}
		s, err := through(t, server, true, nil, change)
		if err != nil {
			continue
		}
		// An answer to nothing that was asked leaves us waiting: nobody waits for ever.
		ctx, cancel := context.WithTimeout(t.Context(), 500*time.Millisecond)
		root, err := s.Tree(ctx, "store", "")
		if err == nil {
			_, _ = root.Put(ctx, fmt.Sprint("any", seed), strings.NewReader("any"), tree.PutOptions{})
			for _, err := range root.List(ctx, ".", tree.WithDescriptors) {
				if err != nil {
					break
				}
			}
			_, _ = root.Descriptor(ctx, ".")
			_, _ = root.Space(ctx)
		}
		cancel()
	}
}

// An answer that is lost on its way is not waited for: the connection is cut, and a new
// one works. The protocol library leaves an answer out that it cannot verify.
func TestLostAnswers(t *testing.T) {
	server := standintest.FileServer(t, "oak", "store")
	for name, change := range map[string]func([]byte) []byte{
		"with another signature": func(m []byte) []byte { m[50] ^= 1; return m },
		"cut short":              func(m []byte) []byte { return m[:66] },
		"that is two":            func(m []byte) []byte { m[20] = 0xff; m[21] = 0xff; m[22] = 0xff; return m },
		"of another session":     func(m []byte) []byte { m[40] ^= 1; return m },
		"to another message":     func(m []byte) []byte { m[24] ^= 0x40; return m },
	} {
		t.Run(name, func(t *testing.T) {
			var lose atomic.Bool
			p, err := tamper.Start(server.HostPort(), nil, func(m []byte) []byte {
				if lose.Load() {
					return change(m)
				}
				return m
			})
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(p.Stop)
			s, err := smb.Dial(t.Context(), smb.Target{Address: p.Address(), Account: "warden", Password: standintest.Password("warden"), IdleTimeout: 200 * time.Millisecond})
			if err != nil {
				t.Fatal(err)
			}
			root, err := s.Tree(t.Context(), "store", "")
			if err != nil {
				t.Fatal(err)
			}
			lose.Store(true)
			if _, err := root.Stat(t.Context(), "."); !errors.Is(err, tree.ErrUnreachable) {
				t.Errorf("an answer that is lost: %v", err)
			}
			if s.Alive(t.Context()) {
				t.Error("the connection is still used")
			}
		})
	}
}

// Whoever waits for a server while the connection is closed at our end learns that, and
// the server is not to blame.
func TestClosedMeanwhile(t *testing.T) {
	server := standintest.FileServer(t, "oak", "store")
	var blamed atomic.Int64
	for range 15 {
		s, err := smb.Dial(t.Context(), smb.Target{Address: server.HostPort(), Account: "warden", Password: standintest.Password("warden"), Untrusted: func(error) { blamed.Add(1) }})
		if err != nil {
			t.Fatal(err)
		}
		root, err := s.Tree(t.Context(), "store", "")
		if err != nil {
			t.Fatal(err)
		}
		var all sync.WaitGroup
		var begun sync.WaitGroup
		for range 20 {
			begun.Add(1)
			all.Go(func() {
				var err error
				for n := 0; err == nil; n++ {
					if _, err = root.Stat(t.Context(), "."); n == 3 {
						begun.Done()
					}
				}
				if errors.Is(err, tree.ErrUntrusted) {
					t.Errorf("a call while the connection is closed: %v", err)
				}
			})
		}
		begun.Wait()
		_ = s.Close()
		all.Wait()
	}
	if blamed.Load() > 0 {
		t.Errorf("the server was blamed %d times", blamed.Load())
	}
}
