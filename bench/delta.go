package main

import (
	"context"
	"crypto/rand"
	"errors"
	mathrand "math/rand/v2"
	"os"
	"path/filepath"
	"sync/atomic"

	"bridgespan/core/replica"
	"bridgespan/mover/replication"
	"bridgespan/standin/leg"
	"bridgespan/tree/folder"
	"bridgespan/tree/smb"
)

// delta compares what crosses a lane, when 1% of a file of 1 GiB changed in 20
// places, with 3% of it: that much may cross.
var delta = benchmark{name: "delta", unit: "MiB/MiB", bar: 1, turns: 3, prepare: prepareDelta}

// deltaShare is the same to a share of a server without a mover. All bytes between us and
// the server count, both ways.
var deltaShare = benchmark{name: "delta-share", unit: "MiB/MiB", bar: 1, turns: 3, prepare: prepareDeltaShare}

func prepareDelta(ctx context.Context, after *endings) (ours, reference way, err error) {
	const size = 1 << 30
	f, e, err := newFilled(ctx, after, 1, 1, size)
	if err != nil {
		return nil, nil, err
	}
	var crossed atomic.Int64
	e.Pace = func(_ context.Context, _ replica.Lane, n int) error { crossed.Add(int64(n)); return nil }
	ours, reference = changed(e, f.source, size, crossed.Load)
	return ours, reference, nil
}

func prepareDeltaShare(ctx context.Context, after *endings) (ours, reference way, err error) {
	const size = 1 << 30
	dir, db, server, err := recordsAndServer(ctx, after)
	if err != nil {
		return nil, nil, err
	}
	between, err := leg.Start("127.0.0.1:0", server.HostPort(), 100_000, 0)
	if err != nil {
		return nil, nil, err
	}
	after.do(between.Stop)
	session, err := smb.Dial(ctx, smb.Target{Address: between.Address(), Account: account, Password: password})
	if err != nil {
		return nil, nil, err
	}
	after.do(func() { session.Close() })
	to, err := session.Tree(ctx, "files", "")
	if err != nil {
		return nil, nil, err
	}
	source := filepath.Join(dir, "source")
	if err := writeFiles(source, 1, 1, size); err != nil {
		return nil, nil, err
	}
	from, err := folder.Open(source)
	if err != nil {
		return nil, nil, err
	}
	after.do(func() { from.Close() })
	turn := int64(0)
	e, err := fillOnce(ctx, db, &turn, from, to)
	if err != nil {
		return nil, nil, err
	}
	ours, reference = changed(e, source, size, between.Crossed)
	return ours, reference, nil
}

// changed changes 1% of a file in 20 places, and tells how many times as long the file
// is as what crosses then; the other way tells how many times that is to be.
func changed(e *replication.Engine, source string, size int64, crossed func() int64) (ours, reference way) {
	const places = 20
	file := filepath.Join(source, "folder0000", "file0000.dat")
	return func(ctx context.Context) (float64, error) {
			if err := change(file, size, places, int(size)/100/places); err != nil {
				return 0, err
			}
			before := crossed()
			if _, err := e.Scan(ctx, e.Replicas[0].ID); err != nil {
				return 0, err
			}
			if err := carryAll(ctx, e, e.Lanes[0]); err != nil {
				return 0, err
			}
			passed := crossed() - before
			if passed == 0 {
				return 0, errors.New("nothing crossed the lane")
			}
			return float64(size) / float64(passed), nil
		}, func(context.Context) (float64, error) {
			return 1 / 0.03, nil
		}
}

// change writes anew so many places of a file, each of some bytes.
func change(name string, size int64, places int, bytes int) error {
	f, err := os.OpenFile(name, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	defer f.Close()
	content := make([]byte, bytes)
	for i := range places {
		if _, err := rand.Read(content); err != nil {
			return err
		}
		within := size / int64(places)
		if _, err := f.WriteAt(content, int64(i)*within+mathrand.Int64N(within-int64(bytes))); err != nil {
			return err
		}
	}
	return nil
}
