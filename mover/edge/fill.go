package edge

import (
	"context"
	"errors"
	"fmt"
	"os"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"bridgespan/guard"
	"bridgespan/tree"
	"bridgespan/tree/folder"
)

// How far is fetched ahead of who reads in order, at first and at most, and how much at a time.
const (
	aheadFirst  = 1 << 20
	aheadMost   = 32 << 20
	fetchAtOnce = 512 << 10
)

// runsMost is how many parts of one file are fetched side by side.
const runsMost = 4

// againAfter is when a bucket that does not answer, or a volume that is full, is tried again.
const againAfter = time.Second

// errPatience: a reader has waited long enough.
var errPatience = fmt.Errorf("%w: the content did not arrive in time", tree.ErrUnreachable)

// filling is what is done about one file. Several may read it at a time.
type filling struct {
	edge  *Edge
	users int // of the edge

	// pieces is held while a piece is written, which changes the modification time for a moment, and while that, or what is there, is
	// read.
	pieces    sync.Mutex
	finishing sync.Mutex
	wrong     error // what was fetched is not what was to be; while finishing is held

	mu    sync.Mutex // of what follows
	news  *sync.Cond // some of it has changed
	runs  []*run
	ended int64 // end of the last read
	ahead int64 // bytes to be fetched ahead of the next read in order
}

func newFilling(e *Edge) *filling {
	f := &filling{edge: e, ended: -1}
	f.news = sync.NewCond(&f.mu)
	return f
}

// run is a part of the content that is fetched in order.
type run struct {
	from, at, to int64 // begun there, complete up to there, goes on up to there
	over         bool
	err          error
}

// fill makes a part of a stub be there.
func (f *filling) fill(ctx context.Context, file *os.File, name string, at, n int64, retry func(error) bool) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	defer context.AfterFunc(ctx, guard.Func(f.wake))()
	patience := time.AfterFunc(f.edge.wait(), guard.Func(func() { cancel(errPatience) }))
	defer patience.Stop()
	for {
		hole, err := f.missing(ctx, file, at, n)
		if err != nil || hole == [2]int64{} {
			return err
		}
		r, err := f.runFor(file, name, hole, at, n)
		if err == nil {
			err = f.await(ctx, r, hole[0]+hole[1], patience)
		}
		if err := again(ctx, err, retry); err != nil {
			return err
		}
	}
}

// missing is the first hole in a part of a stub. A stub without any is made whole.
func (f *filling) missing(ctx context.Context, file *os.File, at, n int64) (hole [2]int64, err error) {
	s, err := f.opened(file)
	if err != nil || s == nil {
		return hole, err
	}
	holes, err := f.holes(s, at, n)
	if err != nil || len(holes) > 0 {
		return append(holes, hole)[0], err
	}
	return hole, f.finish(ctx, file)
}

// finish makes a whole file of a stub of which everything is there.
func (f *filling) finish(ctx context.Context, file *os.File) error {
	if whole, err := f.isWhole(file); err != nil || !whole {
		return err
	}
	f.finishing.Lock()
	defer f.finishing.Unlock()
	if f.wrong != nil {
		return f.wrong
	}
	s, err := f.opened(file)
	if err != nil || s == nil {
		return err
	}
	whole, err := s.Finish(ctx)
	if errors.Is(err, tree.ErrAltered) {
		f.wrong = err
	}
	if err != nil || !whole {
		return err
	}
	f.edge.count(func(c *Counts) { c.Fetched++ })
	if l := f.edge.listener; l != nil {
		_ = l.ignore(int(file.Fd()))
	}
	return nil
}

// opened is the stub that is open as a file; nil when the file is whole.
func (f *filling) opened(file *os.File) (*folder.Stub, error) {
	f.pieces.Lock()
	defer f.pieces.Unlock()
	return folder.OpenedStub(int(file.Fd()))
}

func (f *filling) write(s *folder.Stub, piece []byte, at int64) error {
	f.pieces.Lock()
	defer f.pieces.Unlock()
	return s.WriteAt(piece, at)
}

// holes are the parts of a range that are not there. While a piece is written, that cannot be told: what fails may seem to be there.
func (f *filling) holes(s *folder.Stub, at, n int64) ([][2]int64, error) {
	f.pieces.Lock()
	defer f.pieces.Unlock()
	return s.Missing(at, n)
}

// isWhole reports whether all of a file is there.
func (f *filling) isWhole(file *os.File) (bool, error) {
	f.pieces.Lock()
	defer f.pieces.Unlock()
	holes, err := folder.HasHoles(int(file.Fd()))
	return !holes, err
}

func (f *filling) wake() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.news.Broadcast()
}

// again pauses after an error that retry accepts, and returns any other error.
func again(ctx context.Context, err error, retry func(error) bool) error {
	if ctx.Err() != nil {
		return timedOut(ctx, err)
	}
	if err == nil || !retry(err) {
		return err
	}
	pause := time.NewTimer(againAfter)
	defer pause.Stop()
	select {
	case <-ctx.Done():
		return timedOut(ctx, err)
	case <-pause.C:
		return nil
	}
}

// timedOut is the error of a reader whose time is over.
func timedOut(ctx context.Context, err error) error {
	switch {
	case isFull(err):
		return err
	case err == nil:
		return context.Cause(ctx)
	default:
		return fmt.Errorf("%w: %w", context.Cause(ctx), err)
	}
}

// isTransient reports whether a bucket may answer again by itself.
func isTransient(err error) bool { return errors.Is(err, tree.ErrUnreachable) }

// isFull reports whether a volume, or a quota on it, has no space.
func isFull(err error) bool {
	return errors.Is(err, tree.ErrNoSpace) || errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EDQUOT)
}

// runFor is the run that brings a hole, which is begun if there is none. The more somebody reads in order, the
// further ahead is fetched.
func (f *filling) runFor(file *os.File, name string, hole [2]int64, at, n int64) (*run, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	switch {
	case at == 0, at == f.ended:
		f.ahead = min(max(2*f.ahead, aheadFirst), aheadMost)
	case at+n == f.ended: // the same read, which goes on
	default:
		f.ahead = 0
	}
	f.ended = at + n
	from, to := hole[0], hole[0]+hole[1]
	for _, r := range f.runs {
		if from >= r.from && from <= r.to+fetchAtOnce {
			r.to = max(r.to, to+f.ahead)
			return r, nil
		}
	}
	for len(f.runs) >= runsMost {
		f.news.Wait()
	}
	own, err := folder.Duplicate(int(file.Fd()))
	if err != nil {
		return nil, err
	}
	r := &run{from: from, at: from, to: to + f.ahead}
	f.runs = append(f.runs, r)
	f.edge.stay(f)
	guard.Go(func() { f.run(own, name, r) })
	return r, nil
}

// await waits until a run has come to a place. Each piece that comes renews a reader's patience.
func (f *filling) await(ctx context.Context, r *run, to int64, patience *time.Timer) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	for r.at < to && !r.over && ctx.Err() == nil {
		before := r.at
		f.news.Wait()
		if r.at > before {
			patience.Reset(f.edge.wait())
		}
	}
	if r.at >= to {
		return nil
	}
	return r.err
}

// run fetches a part of the content, and finds out whether the file is whole then.
func (f *filling) run(file *os.File, name string, r *run) {
	defer file.Close()
	id, _, err := identityOf(int(file.Fd()))
	if err == nil {
		defer f.edge.leave(id, f)
		err = guard.Call(func() error { return f.fetch(file, name, r) })
	}
	f.mu.Lock()
	r.over, r.err = true, err
	for i, other := range f.runs {
		if other == r {
			f.runs = append(f.runs[:i:i], f.runs[i+1:]...)
			break
		}
	}
	f.news.Broadcast()
	f.mu.Unlock()
	if err == nil {
		_ = f.finish(context.Background(), file) // who reads next is told what is wrong
	}
}

// fetch reads content and writes it into the stub, for as long as the run goes on. It gives up when
// nothing comes for as long as a reader waits.
func (f *filling) fetch(file *os.File, name string, r *run) error {
	ctx, cancel := context.WithCancelCause(context.Background())
	defer cancel(nil)
	stalled := time.AfterFunc(f.edge.wait(), guard.Func(func() { cancel(errPatience) }))
	defer stalled.Stop()
	from, err := f.edge.source.get(ctx)
	if err != nil {
		return err
	}
	s, err := f.opened(file)
	if err != nil || s == nil {
		return err
	}
	for _, sought := range []bool{false, true} {
		if err = f.copy(ctx, from, s, name, r, sought, stalled); !moved(err) {
			break
		}
		err = stale(s.Mark)
	}
	if ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	return err
}

// buffers hold what was fetched until it is written.
var buffers = sync.Pool{New: func() any { return new([fetchAtOnce]byte) }}

// bounded is a content that is told how far it will be read.
type bounded interface{ Until(offset int64) }

// copy copies what the run still has to bring.
func (f *filling) copy(ctx context.Context, from tree.Tree, s *folder.Stub, name string, r *run, sought bool, stalled *time.Timer) error {
	content, err := Content(ctx, from, name, s.Mark, s.Size, sought)
	if err != nil {
		return err
	}
	defer content.Close()
	buffer := buffers.Get().(*[fetchAtOnce]byte)
	defer buffers.Put(buffer)
	most := int64(2 * folder.FillUnit) // somebody waits for the first piece
	for ; ; most = fetchAtOnce {
		f.mu.Lock()
		at, n := r.at, min(r.to, s.Length)-r.at
		f.mu.Unlock()
		if n <= 0 {
			return nil
		}
		if u, ok := tree.As[bounded](content); ok {
			u.Until(at + n)
		}
		piece := buffer[:min(n, most)]
		if k, err := content.ReadAt(piece, at); k < len(piece) {
			return fmt.Errorf("%w: %d of %d bytes at %d: %w", tree.ErrTorn, k, len(piece), at, err)
		}
		if err := f.write(s, piece, at); err != nil {
			return err
		}
		stalled.Reset(f.edge.wait())
		f.edge.count(func(c *Counts) { c.FetchedBytes += int64(len(piece)) })
		f.mu.Lock()
		r.at += int64(len(piece))
		f.news.Broadcast()
		f.mu.Unlock()
	}
}
