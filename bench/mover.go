package main

import (
	"context"
	"path/filepath"
	"time"

	"bridgespan/mover/host"
	"bridgespan/tree"
	"bridgespan/tree/remote"
)

// moverFill compares the first fill of 1 GiB in large files, from a folder to one
// behind a mover, with cp -a and a hash of both ends. Everything is encrypted and
// goes over a connection; it may take twice as long.
var moverFill = benchmark{name: "mover-fill-large", unit: "MiB/s", bar: 0.5, turns: 3, prepare: func(ctx context.Context, after *endings) (way, way, error) {
	return prepareLargeFill(ctx, after, (*fill).throughMover)
}}

// moverFillSmall compares the first fill of 10,000 files of 8 KiB behind a mover
// with that of a folder at hand.
var moverFillSmall = benchmark{name: "mover-fill-small", unit: "files/s", bar: 1.0 / 3, turns: 3, prepare: func(ctx context.Context, after *endings) (way, way, error) {
	const folders, each = 100, 100
	f, err := newFill(ctx, after, folders, each, smallSize)
	if err != nil {
		return nil, nil, err
	}
	return f.throughMover(folders * each), f.ours(folders * each), nil
}}

// throughMover fills a new replica behind a mover.
func (f *fill) throughMover(amount float64) way {
	return f.fills(amount, func(ctx context.Context, after *endings) (from, to tree.Tree, err error) {
		local, _, err := f.both(after)
		if err != nil {
			return nil, nil, err
		}
		far, err := behindMover(ctx, after, filepath.Join(f.dir, "mover"), f.target())
		return local, far, err
	})
}

// behindMover starts a mover that serves a folder, and opens that.
func behindMover(ctx context.Context, after *endings, state, dir string) (*remote.Tree, error) {
	h, err := startMover(ctx, after, state, dir)
	if err != nil {
		return nil, err
	}
	return h.Tree(ctx, moverFolder, "")
}

// moverFolder is the name of the folder that a mover serves.
const moverFolder = "bench"

// startMover starts a mover that serves a folder.
func startMover(ctx context.Context, after *endings, state, dir string) (*remote.Host, error) {
	m, err := host.Open(host.Config{Listen: "127.0.0.1:0", State: state, Folders: []string{moverFolder + "=" + dir}})
	if err != nil {
		return nil, err
	}
	serving, stop := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() { ended <- m.Serve(serving) }()
	after.do(func() { stop(); <-ended })
	fingerprint, secret, err := host.Identity(state)
	if err != nil {
		return nil, err
	}
	h, _, err := remote.Dial(ctx, remote.Target{Address: m.Address(), Secret: secret, Fingerprint: fingerprint, Timeout: 10 * time.Second})
	if err != nil {
		return nil, err
	}
	after.do(func() { h.Close() })
	return h, nil
}
