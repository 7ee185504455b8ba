package main

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"bridgespan/records"
	"bridgespan/standin/fileserver"
	"bridgespan/tree"
	"bridgespan/tree/smb"
	"bridgespan/tree/spread"
)

// The files that go from share to share.
const (
	shareFolders = 100
	shareEach    = 100
)

// shareFill compares the first fill of 10,000 files of 8 KiB from one share to
// another with a recursive get and put by smbclient, which carries contents alone: so
// does ours. It is to be 1.5 times as fast.
var shareFill = benchmark{name: "first-fill-share", unit: "files/s", bar: 1.5, turns: 3, prepare: func(ctx context.Context, after *endings) (way, way, error) {
	return prepareShareFill(ctx, after, contents)
}}

// shareFillTimes is the same with the times of files, and is not to be slower than
// smbclient without.
var shareFillTimes = benchmark{name: "first-fill-share-times", unit: "files/s", bar: 1, turns: 3, prepare: func(ctx context.Context, after *endings) (way, way, error) {
	return prepareShareFill(ctx, after, times)
}}

// shareFillRights is the same with times and permissions, and is not to be slower
// than smbclient without.
var shareFillRights = benchmark{name: "first-fill-share-rights", unit: "files/s", bar: 1, turns: 3, prepare: func(ctx context.Context, after *endings) (way, way, error) {
	return prepareShareFill(ctx, after, rights)
}}

// carried is what goes from share to share: each has all of those before it, too.
type carried int

const (
	contents carried = iota
	times
	rights
)

// untimed is a receiver at which files keep the time when they were written.
type untimed struct{ *spread.Tree }

func (u untimed) Stage(ctx context.Context, name string, content io.Reader, options tree.PutOptions) (tree.Entry, error) {
	options.Meta.Modified = time.Time{}
	return u.Tree.Stage(ctx, name, content, options)
}

// recordsAndServer starts a database in a new folder, and a file server.
func recordsAndServer(ctx context.Context, after *endings) (dir string, db *records.DB, server *fileserver.Server, err error) {
	if dir, db, err = tempRecords(ctx, after); err != nil {
		return "", nil, nil, err
	}
	server, err = startFileServer(after)
	return dir, db, server, err
}

func prepareShareFill(ctx context.Context, after *endings, what carried) (ours, reference way, err error) {
	dir, db, server, err := recordsAndServer(ctx, after)
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
	turn, copies := int64(0), 0
	return func(ctx context.Context) (float64, error) {
			trees, end, err := bothFolders(ctx, server, top, fmt.Sprint("target", turn))
			if err != nil {
				return 0, err
			}
			defer end()
			began := time.Now()
			var to tree.Tree = trees[1]
			if what == contents {
				to = untimed{trees[1]}
			}
			e := newEngine(db, &turn, trees[0], to)
			e.LeavePermissions = what < rights
			if err := fillWith(ctx, e); err != nil {
				return 0, err
			}
			return files / time.Since(began).Seconds(), nil
		}, func(ctx context.Context) (float64, error) {
			copies++
			return smbclientCopies(ctx, server, filepath.Join(dir, fmt.Sprint("local", copies)), filepath.Join(top, fmt.Sprint("copy", copies)), files)
		}, nil
}

// connections lead to each of both folders, as to a replica of the service.
const connections = 2

// bothFolders makes a target, and opens both folders, each by sessions of its own.
func bothFolders(ctx context.Context, server *fileserver.Server, top, target string) (trees [2]*spread.Tree, end func(), err error) {
	if err := os.RemoveAll(filepath.Join(top, "source", ".bspan")); err != nil {
		return trees, nil, err
	}
	var sessions endings
	for i, sub := range []string{"source", target} {
		var ways []tree.Tree
		for k := range connections {
			session, err := smb.Dial(ctx, smb.Target{Address: server.HostPort(), Account: account, Password: password})
			if err != nil {
				return trees, nil, err
			}
			sessions.do(func() { session.Close() })
			if sub == target && k == 0 {
				t, err := session.Tree(ctx, "files", "")
				if err == nil {
					err = t.Mkdir(ctx, sub)
				}
				if err != nil {
					return trees, nil, err
				}
			}
			t, err := session.Tree(ctx, "files", sub)
			if err != nil {
				return trees, nil, err
			}
			ways = append(ways, t)
		}
		trees[i] = spread.Over(ways...)
	}
	syncDisks()
	return trees, sessions.all, nil
}

// smbclientCopies gets and puts all files with smbclient, over a local folder.
func smbclientCopies(ctx context.Context, server *fileserver.Server, local, to string, files float64) (float64, error) {
	if err := os.Mkdir(local, 0o755); err != nil {
		return 0, err
	}
	syncDisks()
	began := time.Now()
	for _, commands := range []string{
		"recurse on; prompt off; lcd " + local + "; cd source; mget folder*",
		"recurse on; prompt off; lcd " + local + "; mkdir " + filepath.Base(to) + "; cd " + filepath.Base(to) + "; mput folder*"} {
		c := exec.CommandContext(ctx, "smbclient", "//127.0.0.1/files", "-p", fmt.Sprint(server.Port), "-U", account+"%"+password, "-c", commands)
		if out, err := c.CombinedOutput(); err != nil {
			return 0, fmt.Errorf("smbclient: %w: %.300s", err, out)
		}
	}
	took := time.Since(began).Seconds()
	entries, err := os.ReadDir(to)
	if err == nil && len(entries) != shareFolders {
		err = fmt.Errorf("smbclient copied %d folders of %d", len(entries), shareFolders)
	}
	return files / took, err
}
