package main

import (
	"context"
	"crypto/rand"
	"errors"
	mathrand "math/rand/v2"
	"os"
	"path/filepath"
	"sync"

	"bridgespan/core/replica"
)

// delta compares what crosses a lane, when 1% of a file of 1 GiB changed in 20
// places, with 3% of it: that much may cross.
var delta = benchmark{name: "delta", unit: "MiB/MiB", bar: 1, turns: 3, prepare: prepareDelta}

func prepareDelta(ctx context.Context, after *endings) (ours, reference way, err error) {
	const size, places = 1 << 30, 20
	f, e, err := newFilled(ctx, after, 1, 1, size)
	if err != nil {
		return nil, nil, err
	}
	var crossed int64
	var mu sync.Mutex
	e.Pace = func(_ context.Context, _ replica.Lane, n int) error {
		mu.Lock()
		crossed += int64(n)
		mu.Unlock()
		return nil
	}
	file := filepath.Join(f.source, "folder0000", "file0000.dat")
	return func(ctx context.Context) (float64, error) {
			if err := change(file, size, places, size/100/places); err != nil {
				return 0, err
			}
			crossed = 0
			if _, err := e.Scan(ctx, e.Replicas[0].ID); err != nil {
				return 0, err
			}
			if err := carryAll(ctx, e, e.Lanes[0]); err != nil {
				return 0, err
			}
			if crossed == 0 {
				return 0, errors.New("nothing crossed the lane")
			}
			return size / float64(crossed), nil
		}, func(context.Context) (float64, error) {
			return 1 / 0.03, nil
		}, nil
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
