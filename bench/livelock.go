package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"bridgespan/core/replica"
	"bridgespan/mover/replication"
	"bridgespan/standin/database"
	"bridgespan/tree"
	"bridgespan/tree/folder"
)

// livelock plants an item that can never be placed, and finds out what an engine at work
// spends on it once it was reported, together with the database: in seconds that pass for
// each second of processor time. It may take 5% of a core, so that 20 s are the reference.
var livelock = benchmark{name: "livelock", unit: "s/CPU s", bar: 1, turns: 3, prepare: prepareLivelock}

// livelockTurn is for how long the engine is watched.
const livelockTurn = 60 * time.Second

func prepareLivelock(ctx context.Context, after *endings) (ours, reference way, err error) {
	f, server, err := newLivelock(ctx, after)
	if err != nil {
		return nil, nil, err
	}
	from, to, err := f.both(after)
	if err != nil {
		return nil, nil, err
	}
	lying := &unplaceable{Tree: to.(*folder.Tree), about: "never.txt"}
	e, err := fillOnce(ctx, f.db, &f.turn, from, lying)
	if err != nil {
		return nil, nil, err
	}
	if err := os.WriteFile(filepath.Join(f.source, lying.about), []byte("never"), 0o644); err != nil {
		return nil, nil, err
	}
	began, stuck := time.Now(), make(chan struct{})
	var once sync.Once
	e.Trouble = func(t replication.Trouble) {
		if errors.Is(t.Err, replication.ErrStuck) {
			once.Do(func() { close(stuck) })
		}
	}
	workAlways(ctx, after, e)
	select {
	case <-stuck:
	case <-time.After(replication.StalledAfter):
		return nil, nil, fmt.Errorf("it was not reported within %v", time.Since(began))
	case <-ctx.Done():
		return nil, nil, ctx.Err()
	}
	return func(ctx context.Context) (float64, error) {
			used, err := processorTime(os.Getpid(), server.PID())
			if err != nil {
				return 0, err
			}
			select {
			case <-ctx.Done():
				return 0, ctx.Err()
			case <-time.After(livelockTurn):
			}
			now, err := processorTime(os.Getpid(), server.PID())
			return float64(livelockTurn) / float64(max(now-used, time.Millisecond)), err
		}, func(context.Context) (float64, error) {
			return 20, nil
		}, nil
}

// newLivelock makes a folder of 1,000 files, and a database that it can be asked about.
func newLivelock(ctx context.Context, after *endings) (*fill, *database.Server, error) {
	dir, err := workFolder()
	if err != nil {
		return nil, nil, err
	}
	db, server, err := startRecords(ctx, after, dir)
	if err != nil {
		return nil, nil, err
	}
	f := &fill{dir: dir, source: filepath.Join(dir, "source"), db: db}
	return f, server, writeFiles(f.source, 20, 50, 4096)
}

// unplaceable is a folder that denies that what is to come to one path is there.
type unplaceable struct {
	*folder.Tree
	about string
}

func (u *unplaceable) Rename(ctx context.Context, from, to string, replace bool) error {
	if to == u.about {
		return tree.PathError("rename", from, fs.ErrNotExist)
	}
	return u.Tree.Rename(ctx, from, to, replace)
}

// workAlways has the engine scan and transfer until the benchmark is over.
func workAlways(ctx context.Context, after *endings, e *replication.Engine) {
	ctx, stop := context.WithCancel(ctx)
	var workers sync.WaitGroup
	repeat := func(do func() (pause time.Duration)) {
		workers.Go(func() {
			for ctx.Err() == nil {
				select {
				case <-ctx.Done():
				case <-time.After(do()):
				}
			}
		})
	}
	for _, r := range e.Replicas {
		repeat(func() time.Duration {
			_, _ = e.Scan(ctx, r.ID)
			return 10 * time.Second
		})
	}
	for _, lane := range e.Lanes {
		repeat(func() time.Duration { return transferOnce(ctx, e, lane) })
	}
	after.do(func() { stop(); workers.Wait() })
}

// transferOnce works at the backlog of a lane, and tells when to do so again.
func transferOnce(ctx context.Context, e *replication.Engine, lane replica.Lane) time.Duration {
	c, err := e.Carry(ctx, lane, 10_000)
	if err == nil && c.Done > 0 {
		return 0
	}
	return max(c.NextTry, time.Second)
}

// processorTime is how much of the processor processes have used, by Linux's proc(5), in
// hundredths of a second.
func processorTime(pids ...int) (used time.Duration, err error) {
	for _, pid := range pids {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if err != nil {
			return 0, err
		}
		_, rest, _ := strings.Cut(string(text), ") ") // the name may have spaces in it
		fields := strings.Fields(rest)
		if len(fields) < 13 {
			return 0, fmt.Errorf("/proc/%d/stat is %q", pid, text)
		}
		for _, field := range fields[11:13] { // of the program, and of the kernel for it
			ticks, err := strconv.ParseInt(field, 10, 64)
			if err != nil {
				return 0, err
			}
			used += time.Duration(ticks) * 10 * time.Millisecond
		}
	}
	return used, nil
}
