package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"bridgespan/mover/replication"
	"bridgespan/tree"
	"bridgespan/tree/folder"
	"bridgespan/tree/memory"
)

// rescan compares a look at a folder of 200,000 files in which nothing changed
// with a bare recursive listing of it. It may take 1.3 times as long.
var rescan = benchmark{name: "rescan", unit: "files/s", bar: 1 / 1.3, turns: 3, prepare: prepareRescan}

// unchangedFiles is how many tiny files are looked at again and again.
const unchangedFiles = 200_000

// unchangedFolder makes a folder of them, and opens it.
func unchangedFolder(ctx context.Context, after *endings) (*fill, *folder.Tree, error) {
	const each = 100
	f, err := newFill(ctx, after, unchangedFiles/each, each, 16)
	if err != nil {
		return nil, nil, err
	}
	t, err := folder.Open(f.source)
	if err == nil {
		after.do(func() { t.Close() })
	}
	return f, t, err
}

// rescanRead is what looks at unchanged files read of their contents, in bytes.
var rescanRead atomic.Int64

func prepareRescan(ctx context.Context, after *endings) (ours, reference way, err error) {
	const files = unchangedFiles
	f, t, err := unchangedFolder(ctx, after)
	if err != nil {
		return nil, nil, err
	}
	e := newEngine(f.db, &f.turn, &counting{t}, &memory.Tree{})
	id := e.Replicas[0].ID
	if _, err := e.Scan(ctx, id); err != nil {
		return nil, nil, err
	}
	rescanRead.Store(0)
	return func(ctx context.Context) (float64, error) {
			began := time.Now()
			s, err := e.Scan(ctx, id)
			if err == nil && (s.Changed != 0 || s.Entries < files || rescanRead.Load() != 0) {
				err = fmt.Errorf("a look saw %+v and read %d bytes", s, rescanRead.Load())
			}
			return files / time.Since(began).Seconds(), err
		}, func(ctx context.Context) (float64, error) {
			return listBarely(ctx, t, tree.WithDescriptors)
		}, nil
}

// listBarely lists all of a tree, one folder after the other, and nothing else.
func listBarely(ctx context.Context, t tree.Tree, detail tree.Detail) (float64, error) {
	began, seen := time.Now(), 0
	for entry, err := range tree.Walk(ctx, t, ".", detail) {
		if err != nil {
			return 0, err
		}
		if entry.Kind == tree.File {
			seen++
		}
	}
	return float64(seen) / time.Since(began).Seconds(), nil
}

// counting counts what is read of the contents of a tree's files.
type counting struct{ *folder.Tree }

func (c *counting) Open(ctx context.Context, name string) (tree.Content, error) {
	content, err := c.Tree.Open(ctx, name)
	if err == nil && !tree.Reserved(strings.SplitN(name, "/", 2)[0]) {
		rescanRead.Add(content.Entry().Size)
	}
	return content, err
}

// arrival tells how soon a changed file is at the other replica, over an open lane,
// where the tree tells of changes: in files that would arrive one after another in
// a second, of which half a file is asked for.
var arrival = benchmark{name: "arrival", unit: "/s", bar: 1, turns: 9, prepare: prepareArrival}

func prepareArrival(ctx context.Context, after *endings) (ours, reference way, err error) {
	f, e, err := newFilled(ctx, after, 20, 50, 4096)
	if err != nil {
		return nil, nil, err
	}
	work, stop := context.WithCancel(ctx)
	looks := make(chan struct{}, 100)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		_ = e.Follow(work, e.Replicas[0].ID, func(replication.Scanned, error) {
			_ = carryAll(work, e, e.Lanes[0])
			looks <- struct{}{}
		})
	}()
	after.do(func() { stop(); <-ended })
	<-looks // it is watched from now on
	name, turn := filepath.Join("folder0003", "file0004.dat"), 0
	return func(ctx context.Context) (float64, error) {
			turn++
			want := fmt.Sprintf("changed the %dth time", turn)
			began := time.Now()
			if err := os.WriteFile(filepath.Join(f.source, name), []byte(want), 0o644); err != nil {
				return 0, err
			}
			for {
				if text, err := os.ReadFile(filepath.Join(f.target(), name)); err == nil && string(text) == want {
					return 1 / time.Since(began).Seconds(), nil
				}
				select {
				case <-ctx.Done():
					return 0, ctx.Err()
				case <-looks:
				case <-time.After(10 * time.Second):
					return 0, errors.New("it does not arrive")
				}
			}
		}, func(context.Context) (float64, error) {
			return 0.5, nil // 2 s
		}, nil
}
