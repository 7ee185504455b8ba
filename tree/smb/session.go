// Package smb reaches shares over SMB 3 as trees.
//
// A [Session] is one signed-in connection; it serves any number of trees.
package smb

import (
	"context"
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
	// Timeout bounds connecting and signing in; 0 means 10 seconds.
	Timeout time.Duration
}

// Session is a signed-in connection to one server. Its methods may be called
// from several goroutines.
type Session struct {
	session *smb2.Session
	conn    net.Conn
}

// Dial connects and signs in. Its errors wrap tree.ErrUnreachable when the
// server does not answer and ErrSignIn when it refuses the account.
func Dial(ctx context.Context, target Target) (*Session, error) {
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
	dialer := &smb2.Dialer{
		MaxCreditBalance: 1024,
		Initiator:        &smb2.NTLMInitiator{User: target.Account, Password: target.Password, Domain: target.Domain},
	}
	session, err := dialer.DialConn(ctx, conn, target.Address)
	if err != nil {
		conn.Close()
		return nil, fmt.Errorf("sign in to %s as %s: %w", target.Address, target.Account, classify(err))
	}
	return &Session{session, conn}, nil
}

// Client gives the protocol library's own session, for administration over named pipes.
func (s *Session) Client(ctx context.Context) *smb2.Session { return s.session.WithContext(ctx) }

// Alive reports whether the connection still answers.
func (s *Session) Alive(ctx context.Context) bool {
	return s.session.WithContext(ctx).Echo() == nil
}

// Close signs out and closes the connection.
func (s *Session) Close() error {
	// A server that has gone must not keep us waiting for its farewell.
	_ = s.conn.SetDeadline(time.Now().Add(2 * time.Second))
	err := s.session.Logoff()
	s.conn.Close()
	return classify(err)
}

// Tree opens a share, or the folder sub of it, as a tree. sub follows the
// rules of tree names; "" and "." mean the whole share.
func (s *Session) Tree(ctx context.Context, share, sub string) (*Tree, error) {
	if sub == "" {
		sub = "."
	}
	mounted, err := s.session.WithContext(ctx).Mount(share)
	if err != nil {
		return nil, fmt.Errorf("open share %s: %w", share, classify(err))
	}
	return &Tree{share: mounted, sub: sub}, nil
}
