package tree

import (
	"context"
	"sync/atomic"

	"bridgespan/guard"
)

// Folders are listed before a walk comes to them: where a server is far away, most of
// the time goes by until it answers.
const (
	earlyFolders = 8      // of those in one folder, at a time
	earlyEntries = 50_000 // that wait to be taken: beyond that, no more folders are listed early
)

// early lists folders early.
type early struct {
	ctx     context.Context
	stop    context.CancelFunc
	read    func(ctx context.Context, name string) ([]Named, error)
	under   guard.WaitGroup
	waiting atomic.Int64 // entries that were listed and not taken yet
}

func newEarly(ctx context.Context, read func(ctx context.Context, name string) ([]Named, error)) *early {
	e := &early{read: read}
	e.ctx, e.stop = context.WithCancel(ctx)
	return e
}

// end returns when nothing is listed any more.
func (e *early) end() {
	e.stop()
	e.under.Wait()
}

// listing is a folder that is being listed.
type listing struct {
	early *early
	done  chan struct{}
	list  []Named
	err   error
}

// list begins to list a folder.
func (e *early) list(name string) *listing {
	l := &listing{early: e, done: make(chan struct{})}
	e.under.Go(func() {
		defer close(l.done)
		l.err = guard.Call(func() (err error) {
			l.list, err = e.read(e.ctx, name)
			return err
		})
		e.waiting.Add(int64(len(l.list)))
	})
	return l
}

// get waits for the list, and takes it.
func (l *listing) get() ([]Named, error) {
	<-l.done
	l.early.waiting.Add(-int64(len(l.list)))
	return l.list, l.err
}

// below lists folders, some of them before they are asked for; it returns what asks for
// the next one.
func (e *early) below(folders []Named) (next func() *listing) {
	var begun []*listing
	at := 0
	return func() *listing {
		for len(begun) < earlyFolders && at < len(folders) && (len(begun) == 0 || e.waiting.Load() < earlyEntries) {
			begun = append(begun, e.list(folders[at].Path))
			at++
		}
		first := begun[0]
		begun = begun[1:]
		return first
	}
}
