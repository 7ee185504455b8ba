package main

import (
	"context"
	"io"

	"bridgespan/standin/fileserver"
	"bridgespan/tree"
	"bridgespan/tree/smb"
)

// What it costs to sign, and to encrypt: a large file is read through a session that does,
// and for reference through one that does neither. The bars are what the protocol library
// costs now; they are to rise with a client of our own.
var (
	signing = benchmark{name: "signing", unit: "MB/s", bar: 0.1, turns: 3, prepare: func(ctx context.Context, after *endings) (way, way, error) {
		return prepareProtected(ctx, after, fileserver.Config{})
	}}
	encryption = benchmark{name: "encryption", unit: "MB/s", bar: 0.3, turns: 3, prepare: func(ctx context.Context, after *endings) (way, way, error) {
		return prepareProtected(ctx, after, fileserver.Config{Encrypting: true})
	}}
)

func prepareProtected(ctx context.Context, after *endings, protected fileserver.Config) (ours, reference way, err error) {
	plain, err := startFileServer(after)
	if err != nil {
		return nil, nil, err
	}
	safe := plain
	if protected.Encrypting {
		if safe, err = startServerWith(after, protected); err != nil {
			return nil, nil, err
		}
	}
	if ours, err = readThrough(ctx, after, safe, false); err == nil {
		reference, err = readThrough(ctx, after, plain, true)
	}
	return ours, reference, err
}

// readThrough reads the large file of a server with several requests under way.
func readThrough(ctx context.Context, after *endings, server *fileserver.Server, unsigned bool) (way, error) {
	if err := putRandomFile(ctx, server); err != nil {
		return nil, err
	}
	session, err := smb.Dial(ctx, smb.Target{Address: server.HostPort(), Account: account, Password: password, Unsigned: unsigned})
	if err != nil {
		return nil, err
	}
	after.do(func() { session.Close() })
	t, err := session.Tree(ctx, "files", "")
	if err != nil {
		return nil, err
	}
	return func(ctx context.Context) (float64, error) {
		content, err := t.Open(ctx, "big")
		if err != nil {
			return 0, err
		}
		defer content.Close()
		stream := tree.Stream(ctx, content, 0)
		defer stream.Close()
		return rate(func() (int64, error) { return io.Copy(io.Discard, stream) })
	}, nil
}
