// Package edge fills the stubs in folders of this host, from the buckets that have their contents.
//
// An [Edge] fills a stub when it is told to, and, while a [Listener] runs, the moment any process
// reads it: the kernel lets the process wait until the bytes that it reads are there (fanotify(7),
// pre-content events, Linux 6.14). What is read in order is fetched ahead. Where the kernel or the
// file system reports no reads, the process waits when it opens the stub, until the stub is whole.
// A process that cannot be given its bytes within a bound gets an error, never zeros.
//
// Where stubs are and what they are is package folder's matter: here is only where contents come from.
package edge

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"bridgespan/tree"
	"bridgespan/tree/folder"
)

// waitMost is how long a reader waits for a piece of a file.
const waitMost = time.Minute

// Edge is a folder with stubs. It is the folder's [folder.Fetcher].
type Edge struct {
	listener *Listener // that watches the folder, or nil
	source   source
	patience atomic.Int64 // see SetWait
	mu       sync.Mutex   // of what follows
	fillings map[file]*filling
	counts   Counts
}

// Counts are what an edge has done since the mover was started.
type Counts struct {
	Fetched      int64 `json:"fetched"`      // files that became whole
	FetchedBytes int64 `json:"fetchedBytes"` // that were read of the bucket
	Failed       int64 `json:"failed"`       // reads that were given an error
}

// file is a file of this host, whatever its name.
type file struct{ device, inode uint64 }

func identityOf(fd int) (file, int64, error) {
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return file{}, 0, err
	}
	return file{st.Dev, st.Ino}, st.Size, nil
}

// Use lets contents come from a tree from now on; nil lets readers wait for the next one.
func (e *Edge) Use(from tree.Tree) { e.source.use(from) }

// Counts are what was done so far.
func (e *Edge) Counts() Counts {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.counts
}

// SetWait sets how long a reader waits without any progress; 0 is a minute.
func (e *Edge) SetWait(most time.Duration) { e.patience.Store(int64(most)) }

func (e *Edge) wait() time.Duration { return cmp.Or(time.Duration(e.patience.Load()), waitMost) }

// Holds follows [folder.Fetcher].
func (e *Edge) Holds(string) bool { return true }

// Offload follows [folder.Fetcher].
func (e *Edge) Offload(f *os.File, do func() error) error {
	if e.listener == nil {
		return do()
	}
	return e.listener.offload(f, do)
}

// Fill follows [folder.Fetcher].
func (e *Edge) Fill(ctx context.Context, f *os.File, name string, at, n int64) error {
	return e.fill(ctx, f, name, at, n, isTransient)
}

// read is Fill for a program. On a full volume the program waits, since the service offloads other files.
func (e *Edge) read(ctx context.Context, f *os.File, name string, at, n int64) error {
	return e.fill(ctx, f, name, at, n, func(err error) bool { return isTransient(err) || isFull(err) })
}

// fill fills a part of a stub. It retries after errors that retry accepts, for as long as a reader waits.
func (e *Edge) fill(ctx context.Context, f *os.File, name string, at, n int64, retry func(error) bool) error {
	id, size, err := identityOf(int(f.Fd()))
	if err != nil {
		return err
	}
	filling := e.enter(id)
	defer e.leave(id, filling)
	err = filling.fill(ctx, f, name, at, min(n, size-at), retry)
	if err != nil && ctx.Err() == nil {
		e.count(func(c *Counts) { c.Failed++ })
	}
	return err
}

func (e *Edge) count(change func(*Counts)) {
	e.mu.Lock()
	defer e.mu.Unlock()
	change(&e.counts)
}

// idleMost is how many files are remembered that nobody reads just now: who reads one in order comes again.
const idleMost = 256

// enter is what is done about a file. All who have entered must leave.
func (e *Edge) enter(id file) *filling {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.fillings == nil {
		e.fillings = map[file]*filling{}
	}
	f := e.fillings[id]
	if f == nil {
		f = newFilling(e)
		e.fillings[id] = f
	}
	f.users++
	return f
}

// stay is enter for who is in already.
func (e *Edge) stay(f *filling) {
	e.mu.Lock()
	defer e.mu.Unlock()
	f.users++
}

func (e *Edge) leave(id file, f *filling) {
	e.mu.Lock()
	defer e.mu.Unlock()
	f.users--
	if f.users > 0 {
		return
	}
	if f.wrong != nil || len(e.fillings) > idleMost {
		delete(e.fillings, id)
	}
}

// stale is how a mark is of an object that is not there any more.
func stale(mark tree.Mark) error {
	return fmt.Errorf("%w: %s", tree.ErrNoContent, mark.Path)
}

var _ folder.Fetcher = (*Edge)(nil)
