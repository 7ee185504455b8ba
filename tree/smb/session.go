// Package smb reaches shares over SMB 3 as trees.
//
// A [Session] is one signed-in connection; it serves any number of trees.
package smb

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"fmt"
	"net"
	"time"

	smb2 "github.com/cloudsoda/go-smb2"
)

// Target says which server to sign in to, and as whom.
type Target struct {
	Address  string // host:port
	Domain   string // empty for an account of the server itself
	Account  string
	Password string
	// Unsigned lets messages pass that are not signed: whoever is between us and the
	// server can change them.
	Unsigned bool
	// Untrusted, when there is one, is told once when the server sends what no server
	// sends that follows the protocol.
	Untrusted func(error)
	// Timeout bounds connecting and signing in; 0 means 10 seconds.
	Timeout time.Duration
	// IdleTimeout is after how long the connection is cut when the server owes an answer and
	// sends nothing; 0 means a minute, and a quarter of an hour while it flushes a file.
	IdleTimeout time.Duration
}

// Session is a signed-in connection to one server. Its methods may be called
// from several goroutines.
type Session struct {
	session *smb2.Session
	conn    net.Conn
	trust   *trust
}

// Dial connects and signs in. Its errors wrap tree.ErrUnreachable when the server does
// not answer, ErrSignIn when it refuses the account, or lets it in as a guest, and
// tree.ErrUntrusted when its answers make no sense.
func Dial(ctx context.Context, target Target) (*Session, error) {
	return dial(ctx, target, initiator(target), smb2.Negotiator{RequireMessageSigning: !target.Unsigned})
}

func initiator(t Target) *smb2.NTLMInitiator {
	return &smb2.NTLMInitiator{User: t.Account, Password: t.Password, Domain: t.Domain}
}

// DialForSecrets is Dial for a session under whose key a password can be sent
// to the server, and returns that key ([MS-SMB2] 3.2.5.3.1, the application key).
// It speaks SMB 3.0.2, since of later dialects the key depends on what the
// protocol library keeps to itself.
func DialForSecrets(ctx context.Context, target Target) (*Session, []byte, error) {
	i := initiator(target)
	session, err := dial(ctx, target, i, smb2.Negotiator{SpecifiedDialect: 0x0302, RequireMessageSigning: true})
	if err != nil {
		return nil, nil, err
	}
	return session, applicationKey(i.SessionKey()), nil
}

// applicationKey derives the key for programs above SMB 3.0 from that of the
// session ([MS-SMB2] 3.1.4.2; NIST SP 800-108 in counter mode).
func applicationKey(session []byte) []byte {
	h := hmac.New(sha256.New, session)
	h.Write([]byte("\x00\x00\x00\x01SMB2APP\x00\x00SmbRpc\x00\x00\x00\x00\x80"))
	return h.Sum(nil)[:16]
}

func dial(ctx context.Context, target Target, initiator smb2.Initiator, negotiator smb2.Negotiator) (*Session, error) {
	timeout := target.Timeout
	if timeout == 0 {
		timeout = 10 * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	conn, err := (&net.Dialer{KeepAlive: 15 * time.Second}).DialContext(ctx, "tcp", target.Address)
	if err != nil {
		return nil, unreachable(target.Address, err)
	}
	frames := newFrames(conn)
	s := &Session{conn: conn, trust: &trust{address: target.Address, conn: conn, report: target.Untrusted, lastReceived: frames.lastReceived, idleTimeout: target.IdleTimeout}}
	dialer := &smb2.Dialer{MaxCreditBalance: 1024, Initiator: initiator, Negotiator: negotiator}
	err = s.ask(func() (err error) {
		s.session, err = dialer.DialConn(ctx, frames, target.Address)
		return err
	})
	if err = frames.signedIn(err); err != nil {
		conn.Close()
		return nil, fmt.Errorf("sign in to %s as %s: %w", target.Address, target.Account, Classify(err))
	}
	return s, nil
}

// ask calls the protocol library.
func (s *Session) ask(call func() error) (err error) {
	defer s.trust.check(&err, s.trust.wait(0))
	return call()
}

// Alive reports whether the connection still answers.
func (s *Session) Alive(ctx context.Context) bool {
	return s.ask(s.session.WithContext(ctx).Echo) == nil
}

// Close closes the connection, which ends the session ([MS-SMB2] 3.3.7.1). Whoever waits
// for the server gets an error, as if it had gone away. It does not sign out first: after
// that, the protocol library would let every other call wait for ever.
func (s *Session) Close() error {
	s.trust.cut()
	return nil
}

// Tree opens a share, or the folder sub of it, as a tree. sub follows the
// rules of tree names; "" and "." mean the whole share.
func (s *Session) Tree(ctx context.Context, share, sub string) (*Tree, error) {
	if sub == "" {
		sub = "."
	}
	mounted, err := s.mount(ctx, share)
	if err != nil {
		return nil, fmt.Errorf("open share %s: %w", share, Classify(err))
	}
	return newTree(mounted, sub), nil
}

func (s *Session) mount(ctx context.Context, name string) (share *remoteShare, err error) {
	err = s.ask(func() error {
		mounted, err := s.session.WithContext(ctx).Mount(name)
		share = &remoteShare{mounted, s.trust}
		return err
	})
	return share, err
}
