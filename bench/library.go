package main

import (
	"context"
	"net"

	smb2 "github.com/cloudsoda/go-smb2"

	"bridgespan/standin/fileserver"
)

// libraryShare opens the share files with the protocol library alone, signed as ours.
func libraryShare(ctx context.Context, after *endings, server *fileserver.Server) (*smb2.Share, error) {
	conn, err := net.Dial("tcp", server.HostPort())
	if err != nil {
		return nil, err
	}
	after.do(func() { conn.Close() })
	dialer := &smb2.Dialer{MaxCreditBalance: 1024, Initiator: &smb2.NTLMInitiator{User: account, Password: password}, Negotiator: smb2.Negotiator{RequireMessageSigning: true}}
	session, err := dialer.DialConn(ctx, conn, server.HostPort())
	if err != nil {
		return nil, err
	}
	after.do(func() { _ = session.Logoff() })
	share, err := session.Mount("files")
	if err != nil {
		return nil, err
	}
	return share.WithContext(ctx), nil
}
