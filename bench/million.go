package main

import (
	"context"
	"fmt"
	"iter"
	"os"
	"path"
	"runtime"
	"strings"
	"sync/atomic"
	"time"

	"bridgespan/core/acl"
	"bridgespan/tree"
	"bridgespan/tree/memory"
)

// million tells how much memory looks at a replica of a million entries take: the
// first one, which notes them all, and one at which nothing has changed. It is to
// fit into 300 MB.
var million = benchmark{name: "memory-at-a-million", unit: "times into 300 MB", bar: 1, turns: 1, prepare: prepareMillion}

const vastFolders, vastEach = 10_000, 100

func prepareMillion(ctx context.Context, after *endings) (ours, reference way, err error) {
	_, db, err := tempRecords(ctx, after)
	if err != nil {
		return nil, nil, err
	}
	rights, err := acl.Parse("O:BAG:BAD:(A;;FA;;;BA)(A;;FR;;;AU)")
	if err != nil {
		return nil, nil, err
	}
	turn := int64(0)
	return func(ctx context.Context) (float64, error) {
			e := newEngine(db, &turn, &vast{&memory.Tree{}, rights}, &memory.Tree{})
			runtime.GC()
			began := time.Now()
			var worst uint64
			for look := range 2 {
				watched, stop := context.WithCancel(ctx)
				var most atomic.Uint64
				go watchMemory(watched, &most)
				done, err := e.Scan(ctx, e.Replicas[0].ID)
				stop()
				used := most.Load()
				if err != nil || done.Entries != vastFolders*(vastEach+1) || (done.Changed == 0) != (look == 1) {
					return 0, fmt.Errorf("look %d saw %+v: %w", look+1, done, err)
				}
				fmt.Fprintf(os.Stderr, "memory-at-a-million: look %d took %.1f s and %d MB\n", look+1, time.Since(began).Seconds(), used/1e6)
				began, worst = time.Now(), max(worst, used)
			}
			return 300e6 / float64(worst), nil
		}, func(context.Context) (float64, error) {
			return 1, nil
		}, nil
}

// vast is a tree of a million entries that are made up when they are listed; what
// the engine makes of its own is kept in memory.
type vast struct {
	*memory.Tree
	rights acl.Descriptor
}

var vastTime = time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)

func (v *vast) List(ctx context.Context, name string, detail tree.Detail) iter.Seq2[tree.Entry, error] {
	switch {
	case name == ".":
		return func(yield func(tree.Entry, error) bool) {
			for i := range vastFolders {
				if !yield(tree.Entry{Name: fmt.Sprintf("folder%05d", i), Kind: tree.Folder, Modified: vastTime, ID: uint64(i + 1), Descriptor: v.rights}, nil) {
					return
				}
			}
		}
	case strings.HasPrefix(name, "folder"):
		var n uint64
		_, _ = fmt.Sscanf(path.Base(name), "folder%d", &n)
		return func(yield func(tree.Entry, error) bool) {
			for i := range uint64(vastEach) {
				e := tree.Entry{Name: fmt.Sprintf("file%05d with an ordinary name.docx", i), Kind: tree.File, Size: 10_000 + int64(i), Modified: vastTime, ID: 1_000_000 + n*vastEach + i, Descriptor: v.rights}
				if !yield(e, ctx.Err()) {
					return
				}
			}
		}
	}
	return v.Tree.List(ctx, name, detail)
}
