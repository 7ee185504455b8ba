package main

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	mathrand "math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/zeebo/blake3"

	"bridgespan/core/replica"
	"bridgespan/mover/replication"
	"bridgespan/records"
	"bridgespan/standin/database"
	"bridgespan/standin/fileserver"
	"bridgespan/tree"
	"bridgespan/tree/folder"
	"bridgespan/tree/memory"
	"bridgespan/tree/smb"
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
	f, err := newFill(ctx, after, largeFiles, 1, largeSize)
	if err != nil {
		return nil, nil, err
	}
	const mib = largeFiles * largeSize >> 20
	return f.ours(mib), f.reference(mib, func() error { return errors.Join(hashAll(f.source), hashAll(f.copy())) }), nil
}}

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

// delta compares what crosses a lane, when 1% of a file of 1 GiB changed in 20
// places, with 3% of it: that much may cross.
var delta = benchmark{name: "delta", unit: "MiB/MiB", bar: 1, turns: 3, prepare: prepareDelta}

// fill fills a folder from another one, again and again.
type fill struct {
	dir, source string
	db          *records.DB
	turn        int64
}

func newFill(ctx context.Context, after *endings, folders, each, size int) (*fill, error) {
	dir, err := os.MkdirTemp("", "bspan-bench-fill-")
	if err != nil {
		return nil, err
	}
	after.do(func() { os.RemoveAll(dir) })
	f := &fill{dir: dir, source: filepath.Join(dir, "source")}
	if f.db, err = startRecords(ctx, after, dir); err != nil {
		return nil, err
	}
	return f, writeFiles(f.source, folders, each, size)
}

// startRecords starts a database for the records of replicas.
func startRecords(ctx context.Context, after *endings, dir string) (*records.DB, error) {
	server, err := database.Start(filepath.Join(dir, "database"), 0)
	if err != nil {
		return nil, err
	}
	after.do(server.Stop)
	db, err := records.Open(server.DSN("bridgespan"))
	if err != nil {
		return nil, err
	}
	after.do(func() { db.Close() })
	_, err = db.Migrate(ctx, "bench")
	return db, err
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

func (f *fill) copy() string { return filepath.Join(f.dir, "copy") }

// reference copies with cp -a, and does more.
func (f *fill) reference(amount float64, more func() error) way {
	return func(ctx context.Context) (float64, error) {
		if err := os.RemoveAll(f.copy()); err != nil {
			return 0, err
		}
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
	return func(ctx context.Context) (float64, error) {
		target := filepath.Join(f.dir, "target")
		if err := errors.Join(os.RemoveAll(target), os.RemoveAll(filepath.Join(f.source, ".bspan")), os.Mkdir(target, 0o755)); err != nil {
			return 0, err
		}
		from, err := folder.Open(f.source)
		if err != nil {
			return 0, err
		}
		defer from.Close()
		to, err := folder.Open(target)
		if err != nil {
			return 0, err
		}
		defer to.Close()
		syncDisks()
		began := time.Now()
		if _, err := fillOnce(ctx, f.db, &f.turn, from, to); err != nil {
			return 0, err
		}
		return amount / time.Since(began).Seconds(), nil
	}
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

func prepareDelta(ctx context.Context, after *endings) (ours, reference way, err error) {
	const size, places = 1 << 30, 20
	f, err := newFill(ctx, after, 1, 1, size)
	if err != nil {
		return nil, nil, err
	}
	target := filepath.Join(f.dir, "target")
	if err := os.Mkdir(target, 0o755); err != nil {
		return nil, nil, err
	}
	from, err := folder.Open(f.source)
	if err != nil {
		return nil, nil, err
	}
	after.do(func() { from.Close() })
	to, err := folder.Open(target)
	if err != nil {
		return nil, nil, err
	}
	after.do(func() { to.Close() })
	e, err := fillOnce(ctx, f.db, &f.turn, from, to)
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

// The files that go from share to share.
const (
	shareFolders = 100
	shareEach    = 100
)

// shareFill compares the first fill of 10,000 files of 8 KiB from one share to
// another, contents and times alone, with a recursive get and put by smbclient.
// It is to be 1.5 times as fast.
var shareFill = benchmark{name: "first-fill-share", unit: "files/s", bar: 1.5, turns: 3, prepare: func(ctx context.Context, after *endings) (way, way, error) {
	return prepareShareFill(ctx, after, true)
}}

// shareFillRights is the same with permissions, and is not to be slower.
var shareFillRights = benchmark{name: "first-fill-share-rights", unit: "files/s", bar: 1, turns: 3, prepare: func(ctx context.Context, after *endings) (way, way, error) {
	return prepareShareFill(ctx, after, false)
}}

func prepareShareFill(ctx context.Context, after *endings, bare bool) (ours, reference way, err error) {
	dir, err := os.MkdirTemp("", "bspan-bench-share-")
	if err != nil {
		return nil, nil, err
	}
	after.do(func() { os.RemoveAll(dir) })
	db, err := startRecords(ctx, after, dir)
	if err != nil {
		return nil, nil, err
	}
	server, err := startFileServer(after)
	if err != nil {
		return nil, nil, err
	}
	top := server.SharePath("files")
	if err := writeFiles(filepath.Join(top, "source"), shareFolders, shareEach, smallSize); err != nil {
		return nil, nil, err
	}
	if out, err := exec.Command("chown", "-R", "--reference="+top, filepath.Join(top, "source")).CombinedOutput(); err != nil {
		return nil, nil, fmt.Errorf("chown: %w: %s", err, out)
	}
	const files = shareFolders * shareEach
	turn := int64(0)
	return func(ctx context.Context) (float64, error) {
			trees, end, err := bothFolders(ctx, server, top)
			if err != nil {
				return 0, err
			}
			defer end()
			began := time.Now()
			e := newEngine(db, &turn, trees[0], trees[1])
			e.LeavePermissions = bare
			if err := fillWith(ctx, e); err != nil {
				return 0, err
			}
			return files / time.Since(began).Seconds(), nil
		}, func(ctx context.Context) (float64, error) {
			return smbclientCopies(ctx, server, top, filepath.Join(dir, "local"), files)
		}, nil
}

// bothFolders makes the target anew, and opens both folders, each by a session
// of its own.
func bothFolders(ctx context.Context, server *fileserver.Server, top string) (trees [2]tree.Tree, end func(), err error) {
	if err := errors.Join(os.RemoveAll(filepath.Join(top, "target")), os.RemoveAll(filepath.Join(top, "source", ".bspan"))); err != nil {
		return trees, nil, err
	}
	var sessions endings
	for i, sub := range []string{"source", "target"} {
		session, err := smb.Dial(ctx, smb.Target{Address: server.HostPort(), Account: account, Password: password})
		if err != nil {
			return trees, nil, err
		}
		sessions.do(func() { session.Close() })
		if sub == "target" {
			t, err := session.Tree(ctx, "files", "")
			if err == nil {
				err = t.Mkdir(ctx, sub)
			}
			if err != nil {
				return trees, nil, err
			}
		}
		if trees[i], err = session.Tree(ctx, "files", sub); err != nil {
			return trees, nil, err
		}
	}
	syncDisks()
	return trees, sessions.all, nil
}

// smbclientCopies gets and puts all files with smbclient.
func smbclientCopies(ctx context.Context, server *fileserver.Server, top, local string, files float64) (float64, error) {
	if err := errors.Join(os.RemoveAll(local), os.RemoveAll(filepath.Join(top, "copy")), os.Mkdir(local, 0o755)); err != nil {
		return 0, err
	}
	syncDisks()
	began := time.Now()
	for _, commands := range []string{
		"recurse on; prompt off; lcd " + local + "; cd source; mget folder*",
		"recurse on; prompt off; lcd " + local + "; mkdir copy; cd copy; mput folder*"} {
		c := exec.CommandContext(ctx, "smbclient", "//127.0.0.1/files", "-p", fmt.Sprint(server.Port), "-U", account+"%"+password, "-c", commands)
		if out, err := c.CombinedOutput(); err != nil {
			return 0, fmt.Errorf("smbclient: %w: %.300s", err, out)
		}
	}
	took := time.Since(began).Seconds()
	entries, err := os.ReadDir(filepath.Join(top, "copy"))
	if err == nil && len(entries) != shareFolders {
		err = fmt.Errorf("smbclient copied %d folders of %d", len(entries), shareFolders)
	}
	return files / took, err
}

// rescan compares a look at a folder of 200,000 files in which nothing changed
// with a bare recursive listing of it. It may take 1.3 times as long.
var rescan = benchmark{name: "rescan", unit: "files/s", bar: 1 / 1.3, turns: 3, prepare: prepareRescan}

// rescanRead is what looks at unchanged files read of their contents, in bytes.
var rescanRead atomic.Int64

func prepareRescan(ctx context.Context, after *endings) (ours, reference way, err error) {
	const folders, each, files = 2000, 100, 200_000
	f, err := newFill(ctx, after, folders, each, 16)
	if err != nil {
		return nil, nil, err
	}
	t, err := folder.Open(f.source)
	if err != nil {
		return nil, nil, err
	}
	after.do(func() { t.Close() })
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
			began, seen := time.Now(), 0
			for entry, err := range tree.Walk(ctx, t, ".", tree.WithDescriptors) {
				if err != nil {
					return 0, err
				}
				if entry.Kind == tree.File {
					seen++
				}
			}
			return float64(seen) / time.Since(began).Seconds(), nil
		}, nil
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
	f, err := newFill(ctx, after, 20, 50, 4096)
	if err != nil {
		return nil, nil, err
	}
	target := filepath.Join(f.dir, "target")
	if err := os.Mkdir(target, 0o755); err != nil {
		return nil, nil, err
	}
	from, err := folder.Open(f.source)
	if err != nil {
		return nil, nil, err
	}
	after.do(func() { from.Close() })
	to, err := folder.Open(target)
	if err != nil {
		return nil, nil, err
	}
	after.do(func() { to.Close() })
	e, err := fillOnce(ctx, f.db, &f.turn, from, to)
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
				if text, err := os.ReadFile(filepath.Join(target, name)); err == nil && string(text) == want {
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
