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

// silenceMost is how long a mover may send nothing while it owes an answer, and workMost
// how long where it works on a whole file before it answers.
const (
	silenceMost = 2 * time.Minute
	workMost    = time.Hour
)

var errSilent = fmt.Errorf("%w: the mover has taken a call and answers nothing", tree.ErrUnreachable)

// silence ends a call that a mover does not answer.
type silence struct {
	most   time.Duration
	timer  *time.Timer
	cancel context.CancelCauseFunc
}

// listen begins to wait for the answer to a call.
func (h *Host) listen(ctx context.Context, call string) (context.Context, *silence) {
	s := &silence{most: cmp.Or(h.target.Silence, silenceMost)}
	switch call {
	case "put", "stage", "assemble", "flush", "sum", "chunks":
		s.most = cmp.Or(h.target.Silence, workMost)
	}
	ctx, s.cancel = context.WithCancelCause(ctx)
	s.timer = time.AfterFunc(s.most, guard.Func(func() { s.cancel(errSilent) }))
	return ctx, s
}

// broken begins to wait anew: something was sent or received.
func (s *silence) broken() { s.timer.Reset(s.most) }

func (s *silence) end() {
	s.timer.Stop()
	s.cancel(nil)
}

// listened is the body of an answer.
type listened struct {
	body    io.Reader
	silence *silence
}

func (l *listened) Read(p []byte) (int, error) {
	l.silence.broken()
	return l.body.Read(p)
}
