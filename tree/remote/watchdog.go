package remote

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"time"

	"bridgespan/guard"
	"bridgespan/tree"
)

// idleTimeout is how long a mover may send nothing while it owes an answer, and workTimeout
// how long where it works on a whole file before it answers.
const (
	idleTimeout = 2 * time.Minute
	workTimeout = time.Hour
)

var errIdle = fmt.Errorf("%w: the mover has taken a call and answers nothing", tree.ErrUnreachable)

// watchdog cancels a call that a mover does not answer.
type watchdog struct {
	timeout time.Duration
	timer   *time.Timer
	cancel  context.CancelCauseFunc
}

// watch starts a watchdog for a call, and returns the context that it cancels.
func (h *Host) watch(ctx context.Context, call string) (context.Context, *watchdog) {
	w := &watchdog{timeout: cmp.Or(h.target.IdleTimeout, idleTimeout)}
	switch call {
	case "put", "stage", "assemble", "flush", "sum", "chunks", "upload":
		w.timeout = cmp.Or(h.target.IdleTimeout, workTimeout)
	}
	ctx, w.cancel = context.WithCancelCause(ctx)
	w.timer = time.AfterFunc(w.timeout, guard.Func(func() { w.cancel(errIdle) }))
	return ctx, w
}

// reset starts the timeout again: something was sent or received.
func (w *watchdog) reset() { w.timer.Reset(w.timeout) }

// pause stops the timeout until it is reset: the mover owes nothing.
func (w *watchdog) pause() { w.timer.Stop() }

func (w *watchdog) stop() {
	w.timer.Stop()
	w.cancel(nil)
}

// watchedBody is the body of an answer, each read of which resets the watchdog.
type watchedBody struct {
	body     io.Reader
	watchdog *watchdog
}

func (b *watchedBody) Read(p []byte) (int, error) {
	b.watchdog.reset()
	return b.body.Read(p)
}
