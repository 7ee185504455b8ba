package main

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"time"

	"github.com/zeebo/blake3"

	"bridgespan/core/replica"
	"bridgespan/mover/replication"
	"bridgespan/records"
	"bridgespan/standin/database"
	"bridgespan/tree"
	"bridgespan/tree/folder"
)

// The folders that are filled for the first time.
const (
	largeFiles   = 8
	largeSize    = 128 << 20
	smallFolders = 500
	smallEach    = 100
	smallSize    = 8 << 10
)

// fillLarge compares the first fill of 1 GiB in large files, folder to folder,
// with cp -a and a hash of both ends. It may take 1.5 times as long.
var fillLarge = benchmark{name: "first-fill-large", unit: "MiB/s", bar: 1 / 1.5, turns: 3, prepare: func(ctx context.Context, after *endings) (way, way, error) {
	return prepareLargeFill(ctx, after, (*fill).ours)
}}

// prepareLargeFill prepares the fill of 1 GiB in one way, beside cp -a and a hash of
// both ends.
func prepareLargeFill(ctx context.Context, after *endings, by func(*fill, float64) way) (way, way, error) {
	f, err := newFill(ctx, after, largeFiles, 1, largeSize)
	if err != nil {
		return nil, nil, err
	}
	const mib = largeFiles * largeSize >> 20
	return by(f, mib), f.reference(mib, func() error { return errors.Join(hashAll(f.source), hashAll(f.copy())) }), nil
}

// fillSmall compares the first fill of 50,000 files of 8 KiB, folder to folder,
// with cp -a. It may take 2.5 times as long.
var fillSmall = benchmark{name: "first-fill-small", unit: "files/s", bar: 1 / 2.5, turns: 3, prepare: func(ctx context.Context, after *endings) (way, way, error) {
	f, err := newFill(ctx, after, smallFolders, smallEach, smallSize)
	if err != nil {
		return nil, nil, err
	}
	const files = smallFolders * smallEach
	return f.ours(files), f.reference(files, nil), nil
}}

// fill fills a folder from another one, again and again.
type fill struct {
	dir, source string
	db          *records.DB
	turn        int64
	// How many copies the reference has made, and how many replicas were begun.
	copies, targets int
}

func newFill(ctx context.Context, after *endings, folders, each, size int) (*fill, error) {
	dir, db, err := tempRecords(ctx, after)
	if err != nil {
		return nil, err
	}
	f := &fill{dir: dir, source: filepath.Join(dir, "source"), db: db}
	return f, writeFiles(f.source, folders, each, size)
}

// newFilled is newFill with a target that was filled, by an engine.
func newFilled(ctx context.Context, after *endings, folders, each, size int) (*fill, *replication.Engine, error) {
	f, err := newFill(ctx, after, folders, each, size)
	if err != nil {
		return nil, nil, err
	}
	from, to, err := f.both(after)
	if err != nil {
		return nil, nil, err
	}
	e, err := fillOnce(ctx, f.db, &f.turn, from, to)
	return f, e, err
}

// tempRecords makes a folder for a benchmark, with a database in it.
func tempRecords(ctx context.Context, after *endings) (dir string, db *records.DB, err error) {
	if dir, err = workFolder(); err != nil {
		return "", nil, err
	}
	db, _, err = startRecords(ctx, after, dir)
	return dir, db, err
}

// startRecords starts a database with the schema in it.
func startRecords(ctx context.Context, after *endings, dir string) (*records.DB, *database.Server, error) {
	server, err := database.Start(filepath.Join(dir, "database"), 0)
	if err != nil {
		return nil, nil, err
	}
	after.do(server.Stop)
	db, err := records.Open(server.DSN("bridgespan"))
	if err != nil {
		return nil, nil, err
	}
	after.do(func() { db.Close() })
	_, err = db.Migrate(ctx, "bench")
	return db, server, err
}

func writeFiles(dir string, folders, each, size int) error {
	content := make([]byte, size)
	for i := range folders {
		below := filepath.Join(dir, fmt.Sprintf("folder%04d", i))
		if err := os.MkdirAll(below, 0o755); err != nil {
			return err
		}
		for k := range each {
			if _, err := rand.Read(content); err != nil {
				return err
			}
			if err := os.WriteFile(filepath.Join(below, fmt.Sprintf("file%04d.dat", k)), content, 0o644); err != nil {
				return err
			}
		}
	}
	return nil
}

// copy is where the reference has put what it copied last.
func (f *fill) copy() string { return filepath.Join(f.dir, fmt.Sprint("copy", f.copies)) }

// reference copies with cp -a, and does more.
func (f *fill) reference(amount float64, more func() error) way {
	return func(ctx context.Context) (float64, error) {
		f.copies++
		syncDisks()
		began := time.Now()
		if out, err := exec.CommandContext(ctx, "cp", "-a", f.source, f.copy()).CombinedOutput(); err != nil {
			return 0, fmt.Errorf("cp: %w: %s", err, out)
		}
		if more != nil {
			if err := more(); err != nil {
				return 0, err
			}
		}
		return amount / time.Since(began).Seconds(), nil
	}
}

// syncDisks lets the disks come to rest: what one turn left to be written is
// not to slow the next one down.
func syncDisks() { _ = exec.Command("sync").Run() }

// ours fills a new replica, with its records in a database.
func (f *fill) ours(amount float64) way {
	return f.fills(amount, func(_ context.Context, after *endings) (from, to tree.Tree, err error) { return f.both(after) })
}

// fills fills what open opens.
func (f *fill) fills(amount float64, open func(context.Context, *endings) (from, to tree.Tree, err error)) way {
	return func(ctx context.Context) (float64, error) {
		var after endings
		defer after.all()
		from, to, err := open(ctx, &after)
		if err != nil {
			return 0, err
		}
		syncDisks()
		began := time.Now()
		if _, err := fillOnce(ctx, f.db, &f.turn, from, to); err != nil {
			return 0, err
		}
		return amount / time.Since(began).Seconds(), nil
	}
}

// target is where the newest replica is.
func (f *fill) target() string { return filepath.Join(f.dir, fmt.Sprint("target", f.targets)) }

// both opens the source and an empty target.
func (f *fill) both(after *endings) (from, to tree.Tree, err error) {
	f.targets++
	if err := errors.Join(os.RemoveAll(filepath.Join(f.source, ".bspan")), os.Mkdir(f.target(), 0o755)); err != nil {
		return nil, nil, err
	}
	source, err := folder.Open(f.source)
	if err != nil {
		return nil, nil, err
	}
	after.do(func() { source.Close() })
	target, err := folder.Open(f.target())
	if err != nil {
		return nil, nil, err
	}
	after.do(func() { target.Close() })
	return source, target, nil
}

// newEngine keeps two trees the same. Each time its replicas have new numbers.
func newEngine(db *records.DB, turn *int64, from, to tree.Tree) *replication.Engine {
	*turn += 2
	a, b := replica.ID(*turn), replica.ID(*turn+1)
	return &replication.Engine{Set: "bench", Store: db.Replication(), Now: time.Now, Unique: rand.Text,
		Replicas: []*replication.Replica{{ID: a, Name: "from", Tree: from, Seed: true}, {ID: b, Name: "to", Tree: to}},
		Lanes:    []replica.Lane{{From: a, To: b}, {From: b, To: a}}}
}

// fillOnce looks at both trees and carries until nothing is left.
func fillOnce(ctx context.Context, db *records.DB, turn *int64, from, to tree.Tree) (*replication.Engine, error) {
	e := newEngine(db, turn, from, to)
	return e, fillWith(ctx, e)
}

func fillWith(ctx context.Context, e *replication.Engine) error {
	var trouble error
	var mu sync.Mutex
	e.Trouble = func(t replication.Trouble) { mu.Lock(); trouble = t.Err; mu.Unlock() }
	for _, r := range e.Replicas {
		if _, err := e.Scan(ctx, r.ID); err != nil {
			return err
		}
	}
	if err := carryAll(ctx, e, e.Lanes[0]); err != nil {
		return err
	}
	return trouble
}

func carryAll(ctx context.Context, e *replication.Engine, lane replica.Lane) error {
	for {
		c, err := e.Carry(ctx, lane, 10_000)
		if err != nil || c.Done == 0 && c.Postponed == 0 {
			return err
		}
	}
}

// hashAll hashes every file below a folder.
func hashAll(dir string) error {
	return filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		f, err := os.Open(name)
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = io.Copy(blake3.New(), f)
		return err
	})
}
